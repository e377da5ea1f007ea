"""What an attempt does not know, drawn: error ellipsoids, bands of the camera, slip over the picture."""

import numpy as np
from flask import Blueprint, abort, jsonify

from amberkeel.core.diagnose.evidence import Evidence, Measures
from amberkeel.core.diagnose.path import CHANNELS, spikes
from amberkeel.core.diagnose.pose_noise import pose_sigmas
from amberkeel.core.handoff.document import read_shifts
from amberkeel.core.solve.predicted_slip import predicted_slip
from amberkeel.core.solve.solution import Solution
from amberkeel.core.world.camera_curves import camera_curves
from amberkeel.core.world.datum import Datum
from amberkeel.store.models import Attempt
from amberkeel.store.solve import arrays_of, path_of, solution_of
from amberkeel.store.world import datum_where_found
from amberkeel.web.common import get_shot, media, open_session

blueprint = Blueprint("uncertainty", __name__)


@blueprint.get("/attempts/<int:number>/slip/<int:frame>.json")
def slip(number: int, frame: int):
    """Send the slip predicted for objects put on the set as one frame sees it."""
    with open_session() as opened:
        row = opened.get(Attempt, number) or abort(404)
        solution = solution_of(media(), row)
    try:
        found = predicted_slip(solution, frame)
    except KeyError:
        abort(404)
    px = [[None if not np.isfinite(v) else round(float(v), 4) for v in line] for line in found.px]
    known = found.px[np.isfinite(found.px)]
    middle = round(float(np.median(known)), 4) if len(known) else None
    return jsonify(frame=frame, columns=found.columns, rows=found.rows, px=px, median=middle)


@blueprint.get("/attempts/<int:number>/sure.json")
def sure(number: int):
    """Send how sure an attempt is: an ellipsoid of one sigma for each point, and the camera's curves with theirs."""
    with open_session() as opened:
        row = opened.get(Attempt, number) or abort(404)
        shot = get_shot(opened, row.shot_id)
        kept, path = arrays_of(media(), row), path_of(media(), row)
        solution = solution_of(media(), row)
        datum, _ = datum_where_found(opened, media(), shot, row)
    shifts = read_shifts(kept)
    shifts = shifts and shifts.moved(datum.scale, datum.rotation)
    return jsonify(
        points=_ellipsoids(kept, datum), frames=path.frames.tolist(), curves=_curves(datum.camera(path), shifts),
        spikes=_spikes(solution),
    )  # fmt: skip


def _spikes(solution: Solution) -> list[dict]:
    """Return the spikes of a path: frame, channels in words, and by how many sigmas it leaves its way."""
    found = spikes(solution.path, pose_sigmas(Evidence(solution, Measures())))
    return [
        {
            "frame": int(solution.path.frames[one.row]),
            "channels": [CHANNELS[c] for c in one.channels],
            "sigmas": round(one.sigmas, 1),
        }
        for one in found
    ]


def _ellipsoids(kept: dict[str, np.ndarray], datum: Datum) -> dict[int, list[float]]:
    """Return, by track id, what takes the unit sphere to a point's ellipsoid of one sigma: nine numbers by rows."""
    covariance = kept.get("point_covariance")
    if covariance is None:
        return {}
    known = np.isfinite(covariance).all((1, 2))
    values, axes = np.linalg.eigh(covariance[known].astype(float))
    roots = datum.scale * datum.rotation @ axes * np.sqrt(np.maximum(values, 0.0))[:, None, :]
    return {int(t): m.ravel().round(6).tolist() for t, m in zip(kept["track_id"][known], roots)}


def _curves(path, shifts) -> list[dict]:
    return [
        {
            "name": curve.name,
            "values": curve.values.round(5).tolist(),
            "sigma": None if curve.sigma is None else curve.sigma.round(6).tolist(),
        }
        for curve in camera_curves(path, shifts)
    ]
