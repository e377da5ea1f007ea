"""What the page shows of what lines tell: bent and straightened lines, grid, horizon, floor, camera position."""

import numpy as np

from amberkeel.core.lens import Lens
from amberkeel.core.lens.camera_position import CameraPosition
from amberkeel.core.lens.fit import LensFit
from amberkeel.core.lens.look import (
    bent_lines,
    floor_ahead,
    floor_cell,
    floor_grid,
    horizon,
    horizon_angles,
    vanishing_points,
)
from amberkeel.core.lens.picture import bent_grid
from amberkeel.core.lens.profile import profile_document, profile_from_lines
from amberkeel.core.solve.held_lens import straight_px
from amberkeel.store.models import Plate

TURN_WORTH = np.radians(20.0)
"""Sigma of a rotation from which no horizon is shown."""


def shown_position(position: CameraPosition) -> dict:
    """Return a camera's position as the page shows it; metres."""
    return {
        "xyz": position.xyz.tolist(),
        "sigma": position.sigma.tolist(),
        "distance": position.distance,
        "distance_sigma": position.distance_sigma,
        "cell_m": floor_cell(position.distance),
    }


def seen(
    found: LensFit,
    drawn,
    plate: Plate,
    frame: int,
    grid: bool = True,
    quick: bool = False,
    position: tuple[int, dict] | None = None,
) -> dict:
    """Return what the page shows of a fit on a frame; `quick` leaves away what a drag does not need.

    `position` is the camera's, by frame.
    """
    lens, mm = found.lens, plate.sensor_width_mm / plate.width
    here = [d for d in drawn if d.frame == frame]
    ends = np.cumsum([len(d.points) for d in here])[:-1]
    straight = np.split(straight_px(lens, np.concatenate([d.points for d in here])), ends) if here and not quick else []
    turned = found.rotations.get(frame)
    answer = {
        "focal_px": lens.focal_px[0],
        "focal_mm": lens.focal_px[0] * mm,
        "focal_sigma_mm": found.focal_sigma_px * mm,
        "focal_known": found.focal_known,
        "values": found.values,
        "lines": {r.name: {"before": r.before_px, "after": r.after_px, "disagrees": r.disagrees} for r in found.lines},
        "bent": {d.name: b.round(2).tolist() for d, b in zip(here, bent_lines(lens, [d.points for d in here], 16))},
        "straight": {d.name: p.round(2).tolist() for d, p in zip(here, straight)},
        "notes": found.notes,
        "noise_px": found.noise_px,
        "lens": profile_document(profile_from_lines(found))["lens"],
        "grid": [g.round(1).tolist() for g in bent_grid(lens, steps=12)] if grid else [],
    }
    if turned is not None and found.rotation_sigma[frame].max() < TURN_WORTH:
        roll, tilt = horizon_angles(turned)
        answer |= {
            "horizon": horizon(lens, turned).round(1).tolist(),
            "vanishing": vanishing_points(lens, turned),
            "roll": float(np.degrees(roll)),
            "tilt": float(np.degrees(tilt)),
            "angle_sigma": float(np.degrees(found.rotation_sigma[frame][:2].max())),
            "floor": [
                g.round(1).tolist()
                for g in _floor(lens, turned, position[1] if position and position[0] == frame else None)
            ],
        }
        if not quick:
            answer |= {f"straight_{name}": _straight(lens, answer[name]) for name in ("floor", "horizon")}
    return answer


def _straight(lens: Lens, positions: list) -> list:
    """Return strokes, or one, as the straightened plate shows them."""
    if not positions or isinstance(positions[0][0], list):
        return [_straight(lens, stroke) for stroke in positions]
    return straight_px(lens, np.array(positions)).round(1).tolist()


def _floor(lens: Lens, turned: np.ndarray, position: dict | None) -> list[np.ndarray]:
    """Return the floor grid: about the origin in metres where the camera is placed, else in front of it without a
    scale.
    """
    if position is not None:
        return floor_grid(lens, turned, -np.array(position["xyz"]), position["cell_m"], 5)
    ahead = floor_ahead(lens, turned, np.array([0.5 * lens.width, 0.85 * lens.height]))
    return floor_grid(lens, turned, *ahead) if ahead else []
