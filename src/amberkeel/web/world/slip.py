"""Slip measured on the plate: asked for, and sent with where each place lies on each frame."""

import numpy as np
from flask import abort, jsonify

from amberkeel.store.models import Attempt
from amberkeel.store.slip import slip_of
from amberkeel.store.solve import path_of
from amberkeel.web.common import media, open_session
from amberkeel.web.jobs import start
from amberkeel.web.sent import Body, sent
from amberkeel.web.world.blueprint import blueprint


@blueprint.post("/shots/<int:number>/world/slip")
def measure(number: int):
    """Start measuring slip."""
    sent(Body)
    return start("slip", number, {})


@blueprint.get("/attempts/<int:number>/measured.json")
def measured(number: int):
    """Send what was measured on an attempt: places, worst first, and slip by frame."""
    with open_session() as opened:
        row = opened.get(Attempt, number) or abort(404)
        kept, path = slip_of(media(), row), path_of(media(), row)
    if kept is None:
        return jsonify(places=[], frames=[], by_frame=[])
    size = np.hypot(kept.px[..., 0], kept.px[..., 1])
    rms = np.sqrt(np.nanmean(size**2, axis=1))
    rows, out = np.arange(len(path.frames)), []
    for k in np.argsort(-rms):
        at = path.project(np.repeat(kept.xyz[k][None], len(rows), 0), rows)
        worst = int(np.nanargmax(size[k]))
        out.append(
            {
                "number": int(k), "name": kept.names[k], "rms": round(float(rms[k]), 3),
                "expected": _figure(kept.expected[k]), "worst": int(path.frames[worst]),
                "most": _figure(size[k, worst]),
                "first": int(path.frames[kept.rows[k]]),
                "at": [None if not np.isfinite(p).all() else p.round(2).tolist() for p in at],
                "slip": [None if not np.isfinite(s).all() else s.round(3).tolist() for s in kept.px[k]],
            }
        )  # fmt: skip
    count = np.isfinite(size).sum(0)
    with np.errstate(invalid="ignore", divide="ignore"):
        by_frame = np.sqrt(np.nansum(size**2, 0) / count)
    return jsonify(
        places=out, frames=path.frames.tolist(), by_frame=[_figure(v) for v in by_frame],
        usual=_figure(np.nanmedian(rms)), usual_expected=_figure(np.nanmedian(kept.expected)) if len(rms) else None,
        said=kept.said.get("text", ""), kind=kept.said.get("kind", ""),
    )  # fmt: skip


def _figure(value: float) -> float | None:
    return round(float(value), 3) if np.isfinite(value) else None
