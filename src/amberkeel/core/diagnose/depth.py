"""Whether the shot holds the depth that its camera claims: a pan solved as a move floats at any depth."""

import numpy as np

from amberkeel.core.diagnose.evidence import Evidence, medians
from amberkeel.core.diagnose.finding import MINOR, NOTABLE, SERIOUS, Finding, Remedy, surety
from amberkeel.core.solve.motions import FREE, NODAL

NO_PARALLAX, FOCAL, ONE_DEPTH = "no-parallax", "odd-focal", "one-depth"

PARALLAX_UNITS = 6.0
"""Parallax of the middle track over its frames, in expected noise, below which depth is a guess."""

FLAT = 0.12
"""Spread of the middle seven tenths of the depths, over the middle one, up to which they are one depth."""

TURN_OR_STATE = (
    Remedy("motion", "Solve as a camera that only turns", word=NODAL),
    Remedy("advice", "State a distance, a plane or coordinates"),
)
"""What helps a camera that moves where the shot holds no depth."""

LEAST_POINTS = 12

LOOSE = 0.01
"""Relative sigma of the focal length from which one depth does harm."""

FIELD_DEG = (4.0, 120.0)
"""Horizontal fields of view that lenses have, about."""


def findings(evidence: Evidence) -> list[Finding]:
    """Return whether there is parallax for a moving camera, and whether the focal length is one that lenses have."""
    found = [_parallax(evidence), _focal(evidence)]
    if found[0] is None:
        found.append(_one_depth(evidence))
    return [one for one in found if one is not None]


def _one_depth(evidence: Evidence) -> Finding | None:
    """Return whether nearly all points that serve lie equally far away, so that focal length and travel trade."""
    solution = evidence.solution
    live = np.zeros(len(solution.tracks), bool)
    live[np.unique(evidence.own[evidence.still])] = True
    live &= solution.points.known
    if solution.motion != FREE or live.sum() < LEAST_POINTS:
        return None
    path = solution.path
    away = path.to_camera(solution.points.positions(path.positions[0])[live], len(path.frames) // 2)[:, 2]
    near, middle, far = np.percentile(away, [15, 50, 85])
    spread = float((far - near) / max(abs(middle), 1e-9))
    if near <= 0.0 or spread > FLAT:
        return None
    text = (
        f"Nearly all tracks lie equally far away (within {50 * spread:.0f} % of the middle): focal length and travel "
        "trade for one another. Place some on nearer and on further things."
    )
    loose = solution.focal_sigma_px > LOOSE * path.lens.focal_px[0]
    remedies = (Remedy("add", "Follow more features"), Remedy("advice", "State a distance towards the camera"))
    severity = NOTABLE if loose else MINOR
    return Finding(ONE_DEPTH, severity, surety(FLAT, max(spread, 0.01)), text, (), (), remedies, {"spread": spread})


def _parallax(evidence: Evidence) -> Finding | None:
    """Return that a camera that only turns explains the tracks better, or that depths are hardly measured."""
    solution = evidence.solution
    if solution.motion != FREE:
        return None
    score = {rival.motion: rival.score for rival in solution.rivals}
    if score.get(NODAL, np.inf) < score.get(FREE, 0.0):
        text = (
            "A camera that only turns explains the tracks better than this one, which moves: points float at any "
            "depth, and focal length and path are made up to suit them."
        )
        figures = {"score_over_turning": score[FREE]}
        return Finding(NO_PARALLAX, SERIOUS, 0.95, text, (), (), TURN_OR_STATE, figures)
    path, (at, first) = solution.path, evidence.judged_samples
    live = np.zeros(len(first) - 1, bool)
    live[np.unique(evidence.own[evidence.still])] = True
    xyz = solution.points.positions(path.positions[0])
    own, where = evidence.own[at], path.positions[evidence.row[at]]
    chosen = np.nonzero(live & (np.diff(first) >= 5) & np.isfinite(xyz).all(1))[0]
    low, high = (
        how.reduceat(where, first[:-1].clip(max=len(at) - 1), axis=0)[chosen] for how in (np.minimum, np.maximum)
    )
    away = np.linalg.norm(xyz[own] - where, axis=1)
    distance = medians(away, first)[chosen]
    base = np.linalg.norm(high - low, axis=1)
    share = path.lens.focal_px[0] * base / np.maximum(distance, 1e-9) / evidence.usual_unit[chosen]
    if len(share) < 12 or float(np.median(share)) > PARALLAX_UNITS:
        return None
    middle = float(np.median(share))
    text = (
        "The tracks hold hardly any parallax: points float at any depth, and a camera that only turns would explain "
        "them as well."
    )
    severity = SERIOUS if middle < PARALLAX_UNITS / 1.5 else NOTABLE
    figures = {"parallax_units": middle}
    return Finding(
        NO_PARALLAX, severity, surety(PARALLAX_UNITS, max(middle, 0.1)), text, (), (), TURN_OR_STATE, figures
    )


def _focal(evidence: Evidence) -> Finding | None:
    field = 2.0 * np.degrees(np.arctan(evidence.size[0] / 2.0 / evidence.solution.path.lens.focal_px[0]))
    if FIELD_DEG[0] <= field <= FIELD_DEG[1]:
        return None
    text = (
        f"The field of view came out as {field:.0f}°, which hardly any lens has. State a focal length, or draw lines."
    )
    return Finding(
        FOCAL,
        SERIOUS,
        0.8,
        text,
        (),
        (),
        (TURN_OR_STATE[0],),
        {"field_deg": float(field)},
    )
