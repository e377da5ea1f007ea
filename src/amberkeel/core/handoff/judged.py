"""A solve.json with its table of tracks, judged again: what the command line diagnoses."""

from dataclasses import replace

import numpy as np

from amberkeel.core.errors import SolveError
from amberkeel.core.handoff.document import read_solution
from amberkeel.core.handoff.solve_file import SolveDocument
from amberkeel.core.points import points_at
from amberkeel.core.solve.outliers import judge_by_rule
from amberkeel.core.solve.problem import SIGMA_FLOOR_PX
from amberkeel.core.solve.reasons import Reason, as_document
from amberkeel.core.solve.residuals import residuals
from amberkeel.core.solve.solution import Solution
from amberkeel.core.tracks import EXCLUDED, TrackSet

LEAST_SHARED = 8
"""Tracks that a table and a solve must share by name."""


def judged_again(document: SolveDocument, tracks: TrackSet) -> Solution:
    """Return the solution of a solve.json with the residuals of a table of tracks, by their names.

    Parameters
    ----------
    document : as `keel solve` writes it. tracks : that it was solved from.

    Raises
    ------
    SolveError : the table's tracks are not those of the solve.
    """
    known = {point["track"]: point for point in document["points"]}
    shared = [t for t, name in enumerate(tracks.names) if name in known]
    if len(shared) < min(LEAST_SHARED, len(known)):
        raise SolveError(
            f"{len(shared)} tracks of the table are in the solve.", "Give the table that the solve was made from."
        )
    states = [known[name]["state"] if name in known else EXCLUDED for name in tracks.names]
    xyz = np.array([known[name]["xyz"] if name in known else [np.nan] * 3 for name in tracks.names], float)
    reasons = {
        int(tracks.ids[t]): as_document(Reason(code, (tracks.names[t],), {"agree_share": 0.0}))
        for t in shared
        if (code := known[tracks.names[t]].get("reason_code"))
    }
    tracks = replace(tracks, states=states)
    points = points_at(tracks.ids, xyz)
    arrays = {
        "names": np.array(tracks.names), "first": tracks.first, "frame": tracks.frames, "xy": tracks.xy,
        "sigma": tracks.sigma, "score": tracks.score, "kinds": np.array(tracks.kinds), "states": np.array(states),
        "track_id": tracks.ids, "points": points.homogeneous, "outlier": np.zeros(len(tracks.frames), bool),
        "residual": np.zeros((len(tracks.frames), 2)),
    }  # fmt: skip
    solution = read_solution(document, arrays, reasons)
    error = residuals(solution.path, points, tracks)
    used = np.array([s != EXCLUDED for s in states])[tracks.track_of_sample] & np.isfinite(error[:, 0])
    agree, _ = judge_by_rule(tracks, error, np.hypot(tracks.sigma, SIGMA_FLOOR_PX), used)
    return replace(solution, residuals=error, outlier=~(agree & used))
