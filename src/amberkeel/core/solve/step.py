"""Steps of an adjustment: points follow the cameras, and both are moved; in numba over flat arrays."""

import numpy as np
from numba import njit

from amberkeel.core.compiled import FAST
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.solve.projection import POSE, tangent


@njit(cache=True, nogil=True, fastmath=FAST)
def point_steps(seen, structure, cameras, kept, step, out):
    """Fill each point's step (P, 3) from the step of cameras and shared unknowns (n + C,); `cameras` is n.

    Parameters
    ----------
    seen : measurements. structure : of the unknowns. cameras : rows of the cameras. kept : what elimination kept.
        step : (n + C,). out : (P, 3), filled.
    """
    g = np.empty(3)
    for p in range(len(seen.first) - 1):
        if structure.kept[p] >= 0:
            for a in range(3):
                out[p, a] = step[cameras + structure.kept[p] + a]
            continue
        g[:] = kept.gradients[p]
        for n in range(seen.first[p], seen.first[p + 1]):
            slot = structure.slot[seen.camera[n]]
            if slot < 0 or seen.weight[n] == 0.0:
                continue
            for a in range(POSE):
                for b in range(3):
                    g[b] -= kept.blocks[n, b, a] * step[POSE * slot + a]
        for s in range(structure.shared_first[p], structure.shared_first[p + 1]):
            for b in range(3):
                g[b] -= kept.shared[s, b] * step[cameras + structure.shared[s]]
        vi = kept.inverses[p]
        for a in range(3):
            out[p, a] = vi[a, 0] * g[0] + vi[a, 1] * g[1] + vi[a, 2] * g[2]


@njit(cache=True, nogil=True, fastmath=FAST)
def move_points(directions, rhos, steps, new_directions, new_rhos):
    """Fill directions (P, 3) and inverse depths (P,) after steps (P, 3) along the tangents and of the inverse depth.

    Parameters
    ----------
    directions : (P, 3). rhos : (P,). steps : (P, 3). new_directions, new_rhos : filled.
    """
    basis = np.empty((3, 2))
    for p in range(len(rhos)):
        tangent(directions[p], basis)
        norm = 0.0
        for a in range(3):
            value = directions[p, a] + basis[a, 0] * steps[p, 0] + basis[a, 1] * steps[p, 1]
            new_directions[p, a] = value
            norm += value * value
        norm = np.sqrt(norm)
        for a in range(3):
            new_directions[p, a] /= norm
        new_rhos[p] = (rhos[p] + steps[p, 2]) / norm


@njit(cache=True, nogil=True)
def turn_cameras(rotations, turns, out):
    """Fill rotations (F, 3, 3) after turns (F, 3), radians, in the cameras' own frames.

    Parameters
    ----------
    rotations : (F, 3, 3) world_from_camera. turns : (F, 3) radians. out : (F, 3, 3), filled.
    """
    for f in range(len(rotations)):
        out[f] = rotations[f] @ rotation_exp(turns[f])


@njit(cache=True, nogil=True)
def mean_log_depth_row(seen, structure, cameras, kept, rhos, counted, row):
    """Fill `row` (n + C,) with the derivative of the mean log depth by cameras and shared unknowns; return its own
    variance.

    Parameters
    ----------
    counted : (P,) bool, the points whose depth counts. rhos : (P,) inverse depths.
    """
    own, count = 0.0, 0
    for p in range(len(rhos)):
        count += counted[p]
    for p in range(len(rhos)):
        if not counted[p]:
            continue
        share = 1.0 / (rhos[p] * count)
        vi = kept.inverses[p]
        own += share * share * vi[2, 2]
        for n in range(seen.first[p], seen.first[p + 1]):
            slot = structure.slot[seen.camera[n]]
            if slot < 0 or seen.weight[n] == 0.0:
                continue
            for a in range(POSE):
                for b in range(3):
                    row[POSE * slot + a] += share * vi[2, b] * kept.blocks[n, b, a]
        for s in range(structure.shared_first[p], structure.shared_first[p + 1]):
            for b in range(3):
                row[cameras + structure.shared[s]] += share * vi[2, b] * kept.shared[s, b]
    return own
