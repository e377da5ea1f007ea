"""Elimination of the points of an adjustment (Schur complement), in numba over flat arrays."""

import numpy as np
from numba import njit, prange

from amberkeel.core.compiled import FAST
from amberkeel.core.solve.arrays import CHUNKS, FEW, Kept, Observations, Scene, Structure, Sums
from amberkeel.core.solve.cost import measured_at
from amberkeel.core.solve.projection import LOCAL, POSE, residual_and_derivatives, tangent
from amberkeel.core.solve.radial_lens import READOUT

POINT_FLOOR = 1e-9
"""Added to the diagonal of a point's normal matrix, so that one that nothing tells of can be scaled."""


PIVOT_FLOOR = 1e-12
"""Least pivot of a point's normal matrix that is scaled to ones on its diagonal: below it rounding decides."""


@njit(cache=True, fastmath=FAST, nogil=True)
def _invert3(v, out):
    """Fill `out` (3, 3) with the inverse of a symmetric matrix whose upper triangle is in `v` (3, 3), diagonal above 0.

    It is scaled to ones on its diagonal and factored into L D L' (Golub and Van Loan 2013, section 4.1), pivots held
    above a floor: what comes out is positive definite however badly the depth of a point is known.
    """
    s0, s1, s2 = 1.0 / np.sqrt(v[0, 0]), 1.0 / np.sqrt(v[1, 1]), 1.0 / np.sqrt(v[2, 2])
    l10, l20, c21 = v[0, 1] * s0 * s1, v[0, 2] * s0 * s2, v[1, 2] * s1 * s2
    d1 = max(1.0 - l10 * l10, PIVOT_FLOOR)
    l21 = (c21 - l20 * l10) / d1
    d2 = max(1.0 - l20 * l20 - l21 * l21 * d1, PIVOT_FLOOR)
    # The inverse of L below its diagonal, and what each pivot adds to the inverse of the whole.
    m20 = l21 * l10 - l20
    i1, i2 = 1.0 / d1, 1.0 / d2
    out[2, 2] = i2 * s2 * s2
    out[1, 2] = -l21 * i2 * s1 * s2
    out[0, 2] = m20 * i2 * s0 * s2
    out[1, 1] = (i1 + l21 * l21 * i2) * s1 * s1
    out[0, 1] = (-l10 * i1 - l21 * m20 * i2) * s0 * s1
    out[0, 0] = (1.0 + l10 * l10 * i1 + m20 * m20 * i2) * s0 * s0
    out[1, 0], out[2, 0], out[2, 1] = out[0, 1], out[0, 2], out[1, 2]


@njit(cache=True, nogil=True, fastmath=FAST)
def _accumulate(scene, seen, scale2, information, structure, p, at, sums, kept, c, v, jc, jp, js, e, pixel, basis):
    """Add the observations of point `p` to the sums of chunk `c`; fill its normal matrix `v` (3, 3, upper triangle)."""
    tiles, border, corner, side = sums.tiles[c], sums.border[c], sums.corner[c], sums.side[c]
    cameras = border.shape[1]
    gp = kept.gradients[p]
    v[:] = 0.0
    gp[:] = 0.0
    s0, s1 = structure.shared_first[p], structure.shared_first[p + 1]
    for s in range(s0, s1):
        at[structure.shared[s]] = s
        for b in range(3):
            kept.shared[s, b] = 0.0
    tangent(scene.directions[p], basis)
    for n in range(seen.first[p], seen.first[p + 1]):
        f = seen.camera[n]
        w = kept.blocks[n]
        w[:] = 0.0
        if seen.weight[n] == 0.0:
            continue
        measured_at(seen, n, scene.lenses[f, READOUT], pixel)
        if not residual_and_derivatives(
            scene.rotations[f], scene.centres[f], scene.anchors[p], scene.directions[p], scene.rhos[p], basis,
            scene.lenses[f], pixel, e, jc, jp,
        ):  # fmt: skip
            continue
        jc[0, POSE + READOUT], jc[1, POSE + READOUT] = seen.drift[n, 0], seen.drift[n, 1]
        w2 = seen.weight[n] * seen.weight[n]
        w2 /= 1.0 + (e[0] * e[0] + e[1] * e[1]) * w2 / scale2
        w2 *= information[p]
        for a in range(3):
            gp[a] -= w2 * (jp[0, a] * e[0] + jp[1, a] * e[1])
            for b in range(a, 3):
                v[a, b] += w2 * (jp[0, a] * jp[0, b] + jp[1, a] * jp[1, b])
        count = 0
        for k in range(structure.columns.shape[1]):
            if structure.columns[f, k] < 0:
                break
            js[0, k] = js[1, k] = 0.0
            for q in range(LOCAL):
                gain = structure.chain[f, k, q]
                if gain != 0.0:
                    js[0, k] += gain * jc[0, q]
                    js[1, k] += gain * jc[1, q]
            count += 1
        for k in range(count):
            row = structure.columns[f, k]
            side[cameras + row] -= w2 * (js[0, k] * e[0] + js[1, k] * e[1])
            for j in range(k + 1):
                corner[row, structure.columns[f, j]] += w2 * (js[0, k] * js[0, j] + js[1, k] * js[1, j])
            for b in range(3):
                kept.shared[at[row], b] += w2 * (js[0, k] * jp[0, b] + js[1, k] * jp[1, b])
        slot = structure.slot[f]
        if slot < 0:
            continue
        for a in range(POSE):
            if not structure.free[f, a]:
                jc[0, a] = jc[1, a] = 0.0
        row, own, to = POSE * slot, structure.tile[f], structure.within[f]
        block = tiles[structure.at[own, own], POSE * to : POSE * to + POSE, POSE * to : POSE * to + POSE]
        for a in range(POSE):
            side[row + a] -= w2 * (jc[0, a] * e[0] + jc[1, a] * e[1])
            for b in range(a + 1):
                block[a, b] += w2 * (jc[0, a] * jc[0, b] + jc[1, a] * jc[1, b])
            for b in range(3):
                w[b, a] = w2 * (jc[0, a] * jp[0, b] + jc[1, a] * jp[1, b])
            for k in range(count):
                border[structure.columns[f, k], row + a] += w2 * (js[0, k] * jc[0, a] + js[1, k] * jc[1, a])


@njit(cache=True, nogil=True, fastmath=FAST)
def _keep(seen, structure, p, first, sums, kept, c, v):
    """Give point `p` its rows in the border, from row `first`, instead of eliminating it."""
    border, corner, side = sums.border[c], sums.corner[c], sums.side[c]
    cameras = border.shape[1]
    for a in range(3):
        side[cameras + first + a] += kept.gradients[p, a]
        kept.gradients[p, a] = 0.0
        for b in range(a + 1):
            corner[first + a, first + b] += v[b, a]
        for s in range(structure.shared_first[p], structure.shared_first[p + 1]):
            corner[first + a, structure.shared[s]] += kept.shared[s, a]
    for n in range(seen.first[p], seen.first[p + 1]):
        slot = structure.slot[seen.camera[n]]
        if slot < 0 or seen.weight[n] == 0.0:
            continue
        for a in range(3):
            for b in range(POSE):
                border[first + a, POSE * slot + b] += kept.blocks[n, a, b]


@njit(cache=True, nogil=True, fastmath=FAST)
def _eliminate(seen, structure, p, sums, kept, c, y, ys):
    """Take point `p` out of the sums of chunk `c` (Schur complement), all but pairs of cameras."""
    border, corner, side, taken = sums.border[c], sums.corner[c], sums.side[c], sums.taken[c]
    cameras, vi, gp = border.shape[1], kept.inverses[p], kept.gradients[p]
    s0, s1 = structure.shared_first[p], structure.shared_first[p + 1]
    for s in range(s0, s1):
        row, own = structure.shared[s], kept.shared[s]
        for b in range(3):
            ys[b] = own[0] * vi[0, b] + own[1] * vi[1, b] + own[2] * vi[2, b]
        side[cameras + row] -= ys[0] * gp[0] + ys[1] * gp[1] + ys[2] * gp[2]
        taken[cameras + row] += ys[0] * own[0] + ys[1] * own[1] + ys[2] * own[2]
        for o in range(s0, s + 1):
            other = kept.shared[o]
            corner[row, structure.shared[o]] -= ys[0] * other[0] + ys[1] * other[1] + ys[2] * other[2]
    for n in range(seen.first[p], seen.first[p + 1]):
        slot = structure.slot[seen.camera[n]]
        if slot < 0 or seen.weight[n] == 0.0:
            continue
        w, row = kept.blocks[n], POSE * slot
        for a in range(POSE):
            for b in range(3):
                y[b] = w[0, a] * vi[0, b] + w[1, a] * vi[1, b] + w[2, a] * vi[2, b]
            side[row + a] -= y[0] * gp[0] + y[1] * gp[1] + y[2] * gp[2]
            taken[row + a] += y[0] * w[0, a] + y[1] * w[1, a] + y[2] * w[2, a]
            for s in range(s0, s1):
                own = kept.shared[s]
                border[structure.shared[s], row + a] -= y[0] * own[0] + y[1] * own[1] + y[2] * own[2]


@njit(cache=True, nogil=True, fastmath=FAST)
def _eliminate_chunk(scene, seen, scale2, information, damping, structure, sums, kept, c):
    """Add the points of chunk `c` to its sums."""
    sums.tiles[c] = 0.0
    sums.border[c] = 0.0
    sums.corner[c] = 0.0
    sums.side[c] = 0.0
    sums.taken[c] = 0.0
    e, basis, v, y, ys = np.empty(2), np.empty((3, 2)), np.empty((3, 3)), np.empty(3), np.empty(3)
    pixel = np.empty(2)
    jc, jp, js = np.empty((2, LOCAL)), np.empty((2, 3)), np.empty((2, structure.columns.shape[1]))
    at = np.zeros(sums.corner.shape[1] + 1, np.int64)
    for k in range(structure.chunks[c], structure.chunks[c + 1]):
        p = structure.order[k]
        _accumulate(scene, seen, scale2, information, structure, p, at, sums, kept, c, v, jc, jp, js, e, pixel, basis)
        if structure.kept[p] >= 0:
            _keep(seen, structure, p, structure.kept[p], sums, kept, c, v)
            continue
        for a in range(3):
            v[a, a] = v[a, a] * (1.0 + damping) + POINT_FLOOR
        _invert3(v, kept.inverses[p])
        _eliminate(seen, structure, p, sums, kept, c, y, ys)


@njit(cache=True, nogil=True, fastmath=FAST, parallel=True)
def _eliminate_parallel(scene, seen, scale2, information, damping, structure, sums, kept):
    for c in prange(CHUNKS):
        # A call of its own: within a parallel loop numba does not see that members of a tuple alias one another.
        _eliminate_chunk(scene, seen, scale2, information, damping, structure, sums, kept, c)


def eliminate_points(
    scene: Scene,
    seen: Observations,
    scale2: float,
    information: np.ndarray,
    damping: float,
    structure: Structure,
    sums: Sums,
    kept: Kept,
) -> None:
    """Fill the sums of every chunk with the normal system, points eliminated but for those that are kept, and but for
    what they take from pairs of cameras (`panels`).

    Parameters
    ----------
    scale2 : square of the Cauchy scale. information : (P,) factor on the weight of each point's observations.
    damping : share of its diagonal added to each eliminated point's matrix.
    """
    if len(seen.camera) > FEW:
        _eliminate_parallel(scene, seen, scale2, information, damping, structure, sums, kept)
        return
    for c in range(CHUNKS):
        _eliminate_chunk(scene, seen, scale2, information, damping, structure, sums, kept, c)
