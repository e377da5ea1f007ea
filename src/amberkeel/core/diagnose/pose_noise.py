"""How well each frame's own measurements hold its pose, all points given: the noise from frame to frame of the path.

What a path's stated sigmas hold is mostly shared by neighbouring frames; what jitter may come of is what is not.
"""

import numpy as np

from amberkeel.core.diagnose.evidence import Evidence

HARDLY = 1e-12
"""Share of a pose's information added to its diagonal before it is inverted."""


def pose_sigmas(evidence: Evidence) -> np.ndarray:
    """Return one sigma (F, 6) of each pose by its own frame's measurements: position along the camera's axes in world
    units, and turn about them in radians; infinite where fewer than four points are seen.

    From the normal matrix of a pinhole's projection by the six degrees of a pose (Hartley and Zisserman, A4).
    """
    solution, path = evidence.solution, evidence.solution.path
    at = np.nonzero(solution.counted & (evidence.row >= 0) & np.isfinite(evidence.length))[0]
    points = solution.points.homogeneous[_rows_of_points(evidence)[evidence.own[at]]]
    row, unit = evidence.row[at], evidence.unit[at]
    ray = np.einsum("nji,nj->ni", path.world_from_camera[row], points[:, :3] - points[:, 3:] * path.positions[row])
    good = (ray[:, 2] > 0) & np.isfinite(ray).all(1)
    ray, row, unit, rho = ray[good], row[good], unit[good], points[good, 3]
    focal = path.lens.focal_px[0]
    x, y, inverse = ray[:, 0] / ray[:, 2], ray[:, 1] / ray[:, 2], np.abs(rho) / ray[:, 2]
    zero = np.zeros_like(x)
    across = np.stack([-inverse, zero, x * inverse, x * y, -(1 + x * x), y], 1)
    down = np.stack([zero, -inverse, y * inverse, 1 + y * y, -x * y, -x], 1)
    count = len(path.frames)
    normal = np.zeros((count, 6, 6))
    for derivative in (across, down):
        scaled = derivative * (focal / unit)[:, None]
        for a in range(6):
            for b in range(a + 1):
                normal[:, a, b] += np.bincount(row, scaled[:, a] * scaled[:, b], count)
    normal = normal + np.transpose(np.tril(normal, -1), (0, 2, 1))
    seen = np.bincount(row, minlength=count) >= 4
    out = np.full((count, 6), np.inf)
    diagonal = np.einsum("faa->fa", normal)
    normal += HARDLY * diagonal.max(1)[:, None, None] * np.eye(6)
    if seen.any():
        inverted = np.linalg.pinv(normal[seen], hermitian=True)
        out[seen] = np.sqrt(np.maximum(np.einsum("faa->fa", inverted), 0.0))
    return out


def _rows_of_points(evidence: Evidence) -> np.ndarray:
    """Return the row of each track's point (T,)."""
    ids = evidence.solution.points.ids
    order = np.argsort(ids)
    return order[np.minimum(np.searchsorted(ids, evidence.solution.tracks.ids, sorter=order), len(ids) - 1)]
