"""The document `solve.json`: a solve in the conventions of `core` (docs/solve-json.md), written and read."""

from dataclasses import asdict
from typing import cast

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.handoff.solve_file import (
    FORMAT,
    VERSION,
    BegunDocument,
    FoldsDocument,
    LensReportDocument,
    RecipeDocument,
    SolveDocument,
)
from amberkeel.core.handoff.wording import put_elsewhere, sentence
from amberkeel.core.lens.profile import lens_document, read_lens
from amberkeel.core.points import PointSet
from amberkeel.core.solve.evidence.statement import constraint_documents, read_constraints
from amberkeel.core.solve.folds import Folds
from amberkeel.core.solve.held_out import HeldOut
from amberkeel.core.solve.lens_plan import LensChoice
from amberkeel.core.solve.lens_report import LensReport, LensValue
from amberkeel.core.solve.motions import Rival
from amberkeel.core.solve.radial_lens import READOUT_NAME
from amberkeel.core.solve.reasons import as_document, read_reason
from amberkeel.core.solve.recipe import AUTO_ROWS, Recipe
from amberkeel.core.solve.shifts import Shifts
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.start import Begun
from amberkeel.core.solve.terms import Figure
from amberkeel.core.tracks import TrackSet
from amberkeel.core.world.datum import IDENTITY, Datum


def solve_document(solution: Solution, datum: Datum = IDENTITY, plate: str = "", fps: str = "24/1") -> SolveDocument:
    """Return a solve as a plain dictionary ready for JSON, in the datum's world.

    Numbers that do not exist (a frame without residuals) are null; points without a position are left out.

    Parameters
    ----------
    solution : the solve. datum : from its coordinates to the world's. plate : the plate's name.
    fps : frame rate as a fraction, such as "24000/1001".
    """
    path, lens = datum.camera(solution.path), solution.path.lens
    document = {
        "format": FORMAT,
        "version": VERSION,
        "plate": {"name": plate, "fps": fps},
        "image": {"width": lens.width, "height": lens.height, "pixel_aspect": lens.pixel_aspect},
        "camera_motion": solution.motion,
        "lens": lens_document(lens),
        "shutter": {"readout": path.readout, "readout_sigma": solution.lens_report.sigma(READOUT_NAME)},
        "lens_report": _report_document(solution.lens_report),
        "frames": _frames(path, solution, datum.scale),
        "points": _points(path, solution, datum),
        "quality": _quality(solution),
        "terms": [asdict(figure) for figure in solution.terms],
        "rivals": [asdict(rival) for rival in solution.rivals],
        "standing": [list(frames) for frames in solution.standing],
        "stopped": solution.stopped,
        "begun": asdict(solution.begun) if solution.begun else None,
        "missing_frames": solution.missing_frames.tolist(),
        "recipe": _recipe_document(solution.recipe),
    }
    return cast(SolveDocument, document)


def _quality(solution: Solution) -> dict:
    return {
        "rms_px": solution.rms_px,
        "check_rms_px": solution.check_rms_px,
        **solution.counts,
        "focal_sigma_px": solution.focal_sigma_px,
        "k1_sigma": solution.k1_sigma,
        "noise_factor": solution.noise_factor,
        **({"folds": asdict(solution.folds)} if solution.folds else {}),
    }


def _clean(value: float) -> float | None:
    return None if not np.isfinite(value) else float(value)


def _frames(path: CameraPath, solution: Solution, scale: float) -> list[dict]:
    residuals = solution.frame_rms
    return [
        {
            "frame": int(frame),
            "position": path.positions[k].tolist(),
            "world_from_camera": path.world_from_camera[k].tolist(),
            "focal_px": path.lens_at(k).focal_px[0],
            "residual_px": _clean(residuals[k]),
            "position_sigma": _clean(solution.position_sigma[k] * scale),
            "rotation_sigma": None if solution.rotation_sigma is None else _clean(solution.rotation_sigma[k]),
        }
        for k, frame in enumerate(path.frames)
    ]


def _points(path: CameraPath, solution: Solution, datum: Datum) -> list[dict]:
    tracks, residuals = solution.tracks, solution.track_rms
    xyz = datum.points(solution.points).positions(path.positions[0])
    along, across = (datum.scale * sigma for sigma in solution.point_sigmas())
    out = []
    for t in np.nonzero(solution.points.known)[0]:
        reason = solution.reasons.get(int(tracks.ids[t]))
        out.append(
            {
                "id": int(tracks.ids[t]),
                "track": tracks.names[t],
                "kind": tracks.kinds[t],
                "xyz": xyz[t].tolist(),
                "residual_px": _clean(residuals[t]),
                "state": tracks.states[t],
                "reason": sentence(reason) if reason else "",
                "reason_code": reason.code if reason else "",
                "sigma_along": _clean(along[t]),
                "sigma_across": _clean(across[t]),
            }
        )
    return out


def _report_document(report: LensReport) -> dict:
    return {
        "values": [asdict(value) for value in report.values],
        "names": report.names,
        "correlation": report.correlation.tolist(),
        "notes": [sentence(note) for note in report.notes],
        "note_codes": [as_document(note) for note in report.notes],
        "held_out": [{**asdict(trial), "words": put_elsewhere(trial.name, trial.share)} for trial in report.trials],
    }


def _recipe_document(recipe: Recipe) -> dict:
    return {
        "camera_motion": recipe.motion,
        "distortion": recipe.distortion,
        "focal_px": recipe.focal_px,
        "pixel_aspect": recipe.pixel_aspect,
        "lens": {name: asdict(choice) for name, choice in recipe.lens.items()},
        "lens_held": recipe.held_lens is not None,
        "zoom": recipe.zoom,
        "shared_with": list(recipe.shared_with),
        "rows": recipe.rows,
        "readout": recipe.readout,
        "evidence": constraint_documents(recipe.evidence),
        "fps": recipe.fps,
        "folds": recipe.folds,
        "radius": recipe.radius,
        "start": list(recipe.start) if isinstance(recipe.start, tuple) else recipe.start,
        "within": list(recipe.within) if recipe.within else None,
        "weights": dict(recipe.weights),
        "readout_sigma": recipe.readout_sigma,
        "check_share": recipe.check_share,
        "seed": recipe.seed,
    }


def read_path(document: SolveDocument) -> CameraPath:
    """Return the camera path of a solve document."""
    frames, lens = document["frames"], read_lens(document["image"], document["lens"])
    zoom = np.array([f["focal_px"] for f in frames]) / lens.focal_px[0]
    return CameraPath(
        np.array([f["frame"] for f in frames]),
        np.array([f["position"] for f in frames]),
        np.array([f["world_from_camera"] for f in frames]),
        lens,
        None if np.abs(zoom - 1.0).max(initial=0.0) < 1e-9 else zoom,
        document.get("shutter", {}).get("readout", 0.0),
    )


def document_in_world(document: SolveDocument, datum: Datum) -> SolveDocument:
    """Return a solve document, which is in the solve's own coordinates, taken to the datum's world."""
    path = datum.camera(read_path(document))
    frames = [
        {
            **f,
            "position": path.positions[k].tolist(),
            "world_from_camera": path.world_from_camera[k].tolist(),
            "position_sigma": f["position_sigma"] * datum.scale if f["position_sigma"] is not None else None,
        }
        for k, f in enumerate(document["frames"])
    ]
    points = [{**p, "xyz": datum.apply(np.array(p["xyz"])).tolist()} for p in document["points"]]
    for point in points:
        for name in ("sigma_along", "sigma_across"):
            sigma = point.get(name)
            point[name] = None if sigma is None else sigma * datum.scale
    return cast(SolveDocument, {**document, "frames": frames, "points": points})


def solution_arrays(solution: Solution) -> dict[str, np.ndarray]:
    """Return what a solution holds beyond its document, by name: its tracks, points and residuals."""
    tracks, covariance = solution.tracks, solution.point_covariance
    unknown = np.full((len(tracks), 3, 3), np.nan)
    return {
        **_shift_arrays(solution.shifts),
        "point_covariance": (unknown if covariance is None else covariance).astype(np.float32),
        "track_id": tracks.ids,
        "names": np.array(tracks.names, str),
        "kinds": np.array(tracks.kinds, str),
        "states": np.array(tracks.states, str),
        "first": tracks.first,
        "track": tracks.ids[tracks.track_of_sample],
        "frame": tracks.frames,
        "xy": tracks.xy,
        "sigma": tracks.sigma.astype(np.float32),
        "score": tracks.score.astype(np.float32),
        "residual": solution.residuals.astype(np.float32),
        "outlier": solution.outlier,
        "points": solution.points.homogeneous,
        "track_rms": solution.track_rms.astype(np.float32),
        "frame_rms": solution.frame_rms,
    }


def _shift_arrays(shifts: Shifts | None) -> dict[str, np.ndarray]:
    if shifts is None:
        return {}
    return {
        "shift_turns": shifts.turns.astype(np.float32),
        "shift_positions": shifts.positions.astype(np.float32),
        "shift_names": np.array(shifts.names, str),
        "shift_lens": shifts.lens,
        "shift_cells": np.array(shifts.cells),
    }


def read_shifts(arrays: dict[str, np.ndarray]) -> Shifts | None:
    """Return how a kept camera moves when part of its tracks is left out; None where that was not kept."""
    if "shift_turns" not in arrays:
        return None
    turns, positions = (arrays[name].astype(float) for name in ("shift_turns", "shift_positions"))
    names, cells = tuple(arrays["shift_names"].tolist()), int(arrays["shift_cells"])
    return Shifts(turns, positions, names, arrays["shift_lens"], cells)


def read_solution(document: SolveDocument, arrays: dict[str, np.ndarray], reasons: dict[int, dict]) -> Solution:
    """Return a solution from what was kept of it, able to be judged again.

    Parameters
    ----------
    document : in the solve's own coordinates. arrays : see `solution_arrays`.
    reasons : by track id, as `reasons.as_document` returns them.
    """
    tracks = TrackSet(
        arrays["names"].tolist(), arrays["first"], arrays["frame"], arrays["xy"], arrays["sigma"].astype(float),
        arrays["score"].astype(float), arrays["kinds"].tolist(), arrays["states"].tolist(), arrays["track_id"],
    )  # fmt: skip
    sigma = [f["position_sigma"] for f in document["frames"]]
    return Solution(
        read_path(document), tracks, PointSet(arrays["track_id"], arrays["points"]), arrays["outlier"],
        {track: read_reason(reason) for track, reason in reasons.items()}, arrays["residual"].astype(float),
        _read_report(document["lens_report"]), document["quality"]["noise_factor"],
        np.array([np.nan if s is None else s for s in sigma]), document["camera_motion"],
        _read_recipe(document["recipe"], document), tuple(Figure(**figure) for figure in document["terms"]),
        tuple(Rival(**rival) for rival in document.get("rivals", [])), arrays.get("point_covariance"),
        tuple((int(a), int(b)) for a, b in document.get("standing", [])), _read_folds(document["quality"].get("folds")),
        _rotation_sigma(document), read_shifts(arrays), document.get("stopped", False),
        _read_begun(document.get("begun")),
    )  # fmt: skip


def _rotation_sigma(document: SolveDocument) -> np.ndarray | None:
    kept = [f.get("rotation_sigma") for f in document["frames"]]
    return None if None in kept else np.array(kept)


def _read_begun(kept: BegunDocument | None) -> Begun | None:
    return Begun(**kept) if kept else None


def _read_folds(kept: FoldsDocument | None) -> Folds | None:
    if not kept:
        return None
    parts = tuple(kept["part_rms_px"])
    shares = kept["outlier_share"], parts, kept.get("expected", 1.0)
    each = tuple((int(row), float(px)) for row, px in kept.get("each", ()))
    return Folds(kept["count"], kept["rms_px"], kept["used_rms_px"], *shares, each)


def _read_report(kept: LensReportDocument) -> LensReport:
    trials = [
        HeldOut(t["name"], t["share"], t["before_px"], t["after_px"], t["worse"], t["determined"], t["conclusive"])
        for t in kept["held_out"]
    ]
    return LensReport(
        [LensValue(**value) for value in kept["values"]], kept["names"], np.array(kept["correlation"]),
        [read_reason(note) for note in kept["note_codes"]], trials,
    )  # fmt: skip


def _read_recipe(kept: RecipeDocument, document: SolveDocument) -> Recipe:
    held = read_lens(document["image"], document["lens"]) if kept["lens_held"] else None
    lens = {name: LensChoice(**choice) for name, choice in kept["lens"].items()}
    return Recipe(
        kept["camera_motion"], kept["distortion"], kept["focal_px"], kept["pixel_aspect"], kept["check_share"],
        kept["seed"], lens, held, kept["zoom"], tuple(kept["shared_with"]), kept.get("readout"),
        kept.get("rows", AUTO_ROWS), tuple(read_constraints(kept.get("evidence", []))), kept.get("fps", 24.0),
        folds=kept.get("folds", 0), radius=kept.get("radius", 10.0),
        start=kept.get("start"), within=kept.get("within"), weights=kept.get("weights", {}),
        readout_sigma=kept.get("readout_sigma", 0.0),
    )  # fmt: skip


def upgraded(document: dict, ids: np.ndarray) -> dict:
    """Return a document of version 1 as one of version 2; `ids` (P,) are the tracks of its points, in their order."""
    report = document.get("lens_report") or {"values": [], "names": [], "correlation": [], "notes": []}
    values = [{**v, "determined": v.get("told", True)} for v in report["values"]]
    trials = [{**t, "share": 0.0, "determined": t["told"], "conclusive": t["fair"]} for t in report.get("held_out", [])]
    points = [{"reason": "", **p, "id": int(i), "reason_code": ""} for p, i in zip(document["points"], ids)]
    for value in values:
        value.pop("told", None)
    return {
        **document,
        "version": VERSION,
        "lens_report": {**report, "values": values, "held_out": trials, "note_codes": []},
        "points": points,
        "terms": [],
        "recipe": {"pixel_aspect": document["image"]["pixel_aspect"], **document["recipe"]},
    }
