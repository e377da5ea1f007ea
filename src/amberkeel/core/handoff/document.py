"""The document `solve.json`: a solve in the conventions of `core`, described in docs/solve-json.md."""

from dataclasses import asdict

import numpy as np

from amberkeel.core.lens.profile import lens_document
from amberkeel.core.solve.solve import Solution
from amberkeel.core.world import IDENTITY, Datum


def _clean(value: float) -> float | None:
    return None if not np.isfinite(value) else float(value)


def solve_document(solution: Solution, datum: Datum = IDENTITY, plate: str = "", fps: str = "24/1") -> dict:
    """Return a solve as a plain dictionary ready for JSON, in the datum's world.

    Numbers that do not exist (a frame without residuals) are null; points without a position are left out.
    """
    path = datum.camera(solution.path)
    xyz = datum.apply(solution.points)
    lens, counts = path.lens, solution.counts
    frames = [
        {
            "frame": int(frame),
            "position": path.positions[k].tolist(),
            "world_from_camera": path.world_from_camera[k].tolist(),
            "focal_px": path.lens_at(k).focal_px[0],
            "residual_px": _clean(solution.frame_rms[k]),
            "position_sigma": _clean(solution.position_sigma[k] * datum.scale),
        }
        for k, frame in enumerate(path.frames)
    ]
    tracks = solution.tracks
    points = [
        {
            "track": tracks.names[t],
            "kind": tracks.kinds[t],
            "xyz": xyz[t].tolist(),
            "residual_px": _clean(solution.track_rms[t]),
            "state": tracks.states[t],
            "reason": solution.reasons[t],
        }
        for t in range(len(tracks))
        if np.isfinite(xyz[t]).all()
    ]
    return {
        "format": "amberkeel-solve",
        "version": 1,
        "plate": {"name": plate, "fps": fps},
        "image": {"width": lens.width, "height": lens.height, "pixel_aspect": lens.pixel_aspect},
        "camera_motion": solution.motion,
        "lens": lens_document(lens),
        "lens_report": {
            "values": [asdict(v) for v in solution.lens_report.values],
            "names": solution.lens_report.names,
            "correlation": solution.lens_report.correlation.tolist(),
            "notes": solution.lens_report.notes,
            "held_out": [asdict(t) for t in solution.lens_report.trials],
        },
        "frames": frames,
        "points": points,
        "quality": {
            "rms_px": solution.rms_px,
            "check_rms_px": solution.check_rms_px,
            **counts,
            "focal_sigma_px": solution.focal_sigma_px,
            "k1_sigma": solution.k1_sigma,
            "noise_factor": solution.noise_factor,
        },
        "recipe": {
            "camera_motion": solution.recipe.motion,
            "distortion": solution.recipe.distortion,
            "focal_px": solution.recipe.focal_px,
            "lens": {name: asdict(term) for name, term in solution.recipe.terms.items()},
            "lens_held": solution.recipe.held_lens is not None,
            "zoom": solution.recipe.zoom,
            "shared_with": list(solution.recipe.shared_with),
            "check_share": solution.recipe.check_share,
            "seed": solution.recipe.seed,
        },
    }
