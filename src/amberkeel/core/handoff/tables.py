"""Points and cameras as CSV, from a solve document."""

import csv
import io

from amberkeel.core.handoff.solve_file import SolveDocument


def points_csv(document: SolveDocument) -> str:
    """Return the points as CSV: track, kind, state, x, y, z (world units, Y up), residual_px."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(["track", "kind", "state", "x", "y", "z", "residual_px"])
    for p in document["points"]:
        residual = "" if p["residual_px"] is None else f"{p['residual_px']:.4f}"
        writer.writerow([p["track"], p["kind"], p["state"], *(f"{v:.6f}" for v in p["xyz"]), residual])
    return out.getvalue()


def camera_csv(document: SolveDocument) -> str:
    """Return the camera as CSV: frame, position, world_from_camera by rows, focal length, width of the
    picture and residual in pixels.
    """
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    axes = [f"r{i}{j}" for i in range(3) for j in range(3)]
    writer.writerow(["frame", "x", "y", "z", *axes, "focal_px", "width_px", "residual_px"])
    for f in document["frames"]:
        flat = [v for row in f["world_from_camera"] for v in row]
        residual = "" if f["residual_px"] is None else f"{f['residual_px']:.4f}"
        writer.writerow(
            [
                f["frame"],
                *(f"{v:.8f}" for v in f["position"]),
                *(f"{v:.10f}" for v in flat),
                f"{f['focal_px']:.6f}",
                document["image"]["width"],
                residual,
            ]
        )
    return out.getvalue()
