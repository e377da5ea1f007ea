"""One camera from known points, or one point from known cameras: damped Gauss-Newton under a Cauchy loss, in numba.

Triangulation and resection are the same small adjustment seen from its two sides, so one loop serves both.
"""

import numpy as np
from numba import njit, prange

from amberkeel.core.compiled import FAST
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.solve.arrays import FEW, Observations, Scene
from amberkeel.core.solve.projection import BEHIND, LOCAL, POSE, residual_and_derivatives, tangent
from amberkeel.core.solve.radial_lens import ARM_X, ASPECT, CX, CY, FOCAL, K1, K2, K3

LEAST_GAIN = 0.2
"""Radial gain below which the fixed-point undistortion stops: the lens folds over there."""

AGREES = 5.0
"""Bend of the Cauchy loss (1 + whitened residual over scale, squared) below which an observation agrees: twice the
scale.
"""

BEHIND_ALLOWED = -1e-2
"""Least inverse depth of a triangulated point: noise alone may put a far one slightly behind infinity."""


@njit(cache=True, fastmath=FAST, nogil=True)
def _refine(scene, camera, point, xy, weight, a, z, of_camera, index, scale2, iterations, loose):
    """Improve camera `index` (if `of_camera`) or point `index` in place from observations a to z.

    Parameters
    ----------
    scene : cameras, lens rows and points; what is improved is changed there.
    camera, point : (N,) int rows of `scene` for each observation. xy : (N, 2) pixels. weight : (N,) one over sigma.
    scale2 : square of the Cauchy scale.
    loose : (N,) variance of each observation's inverse depth, of which a camera's adjustment takes account; of no
        meaning for a point's.

    Returns the robust cost and the number of observations within twice the scale.
    """
    size = POSE if of_camera else 3
    basis, e = np.zeros((3, 2)), np.empty(2)
    jc, jp = np.empty((2, LOCAL)), np.empty((2, 3))
    rotation, centre, m = (
        scene.rotations[index * of_camera],
        scene.centres[index * of_camera],
        scene.directions[index * (not of_camera)],
    )
    kept_r, kept_c, kept_m, kept_rho = rotation.copy(), centre.copy(), m.copy(), scene.rhos[index * (not of_camera)]
    h, g, kept_h, kept_g = np.zeros((size, size)), np.zeros(size), np.zeros((size, size)), np.zeros(size)
    damping, last, inside = 1e-3, 1e300, 0
    for _ in range(iterations):
        h[:] = 0.0
        g[:] = 0.0
        logs, product, count = 0.0, 1.0, 0
        if not of_camera:
            tangent(m, basis)
        for n in range(a, z):
            if weight[n] == 0.0:
                continue
            f, p = camera[n], point[n]
            if not residual_and_derivatives(
                scene.rotations[f], scene.centres[f], scene.anchors[p], scene.directions[p], scene.rhos[p], basis,
                scene.lenses[f], xy[n], e, jc, jp,
            ):  # fmt: skip
                product *= 1.0 + BEHIND / scale2
            else:
                w2 = weight[n] * weight[n]
                u0, u1, share = jp[0, 2], jp[1, 2], 0.0
                if of_camera:
                    # A depth of variance v adds v u u' to the covariance (Woodbury): the residual counts less along u.
                    share = loose[n] / (1.0 + loose[n] * w2 * (u0 * u0 + u1 * u1))
                w00, w01, w11 = (
                    w2 - w2 * w2 * share * u0 * u0,
                    -w2 * w2 * share * u0 * u1,
                    w2 - w2 * w2 * share * u1 * u1,
                )
                bend = 1.0 + (w00 * e[0] * e[0] + 2.0 * w01 * e[0] * e[1] + w11 * e[1] * e[1]) / scale2
                count += bend < AGREES
                product *= bend
                w00, w01, w11 = w00 / bend, w01 / bend, w11 / bend
                j = jc if of_camera else jp
                for i in range(size):
                    a0, a1 = w00 * j[0, i] + w01 * j[1, i], w01 * j[0, i] + w11 * j[1, i]
                    g[i] -= a0 * e[0] + a1 * e[1]
                    for k in range(size):
                        h[i, k] += a0 * j[0, k] + a1 * j[1, k]
            if product > 1e200:
                logs += np.log(product)
                product = 1.0
        cost = 0.5 * scale2 * (logs + np.log(product))
        if cost <= last:
            done = last - cost < 1e-7 * cost
            kept_r[:] = rotation
            kept_c[:] = centre
            kept_m[:] = m
            kept_rho = scene.rhos[index * (not of_camera)]
            last, inside = cost, count
            if done:
                break
            damping *= 0.2
        else:
            damping *= 10.0
            if of_camera:
                rotation[:] = kept_r
                centre[:] = kept_c
            else:
                m[:] = kept_m
                scene.rhos[index] = kept_rho
                tangent(m, basis)
            h[:] = kept_h
            g[:] = kept_g
        kept_h[:] = h
        kept_g[:] = g
        for i in range(size):
            h[i, i] = h[i, i] * (1.0 + damping) + 1e-9
        step = np.linalg.solve(h, g)
        if of_camera:
            rotation[:] = rotation @ rotation_exp(step[:3])
            centre += step[3:]
        else:
            norm = 0.0
            for i in range(3):
                m[i] += basis[i, 0] * step[0] + basis[i, 1] * step[1]
                norm += m[i] * m[i]
            norm = np.sqrt(norm)
            for i in range(3):
                m[i] /= norm
            scene.rhos[index] = (scene.rhos[index] + step[2]) / norm
    if of_camera:
        rotation[:] = kept_r
        centre[:] = kept_c
    else:
        m[:] = kept_m
        scene.rhos[index] = kept_rho
    return last, inside


@njit(cache=True, fastmath=FAST, nogil=True)
def _ray(lens, xy, out):
    """Fill `out` (3,) with the unit direction in the camera of a pixel (fixed-point undistortion)."""
    xd, yd = (xy[0] - lens[CX]) / lens[FOCAL], (xy[1] - lens[CY]) / (lens[FOCAL] * lens[ASPECT])
    x, y = xd, yd
    for _ in range(20):
        r2 = x * x + y * y
        gain = 1.0 + r2 * (lens[K1] + r2 * (lens[K2] + r2 * lens[K3]))
        if gain < LEAST_GAIN:
            break
        x, y = xd / gain, yd / gain
    n = 1.0 / np.sqrt(x * x + y * y + 1.0)
    out[0], out[1], out[2] = x * n, y * n, n


@njit(cache=True, fastmath=FAST, nogil=True)
def _pupil(scene, f, out):
    """Fill `out` (3,) with the entrance pupil of camera `f`."""
    for k in range(3):
        out[k] = scene.centres[f, k]
        for j in range(3):
            out[k] += scene.rotations[f, k, j] * scene.lenses[f, ARM_X + j]


@njit(cache=True, fastmath=FAST, nogil=True)
def _linear_start(scene, camera, xy, weight, a, z, p):
    """Put point `p`'s anchor at its first usable camera and its direction along that ray; return the linear inverse
    depth.
    """
    anchor, m = scene.anchors[p], scene.directions[p]
    ray, host = np.empty(3), a
    while weight[host] == 0.0:
        host += 1
    f = camera[host]
    _ray(scene.lenses[f], xy[host], ray)
    _pupil(scene, f, anchor)
    for k in range(3):
        m[k] = scene.rotations[f, k, 0] * ray[0] + scene.rotations[f, k, 1] * ray[1] + scene.rotations[f, k, 2] * ray[2]
    top = bottom = 0.0
    pupil = np.empty(3)
    for n in range(a, z):
        if weight[n] == 0.0 or n == host:
            continue
        g = camera[n]
        _pupil(scene, g, pupil)
        _ray(scene.lenses[g], xy[n], ray)
        q, d = np.zeros(3), np.zeros(3)
        for j in range(3):
            for k in range(3):
                q[j] += scene.rotations[g, k, j] * m[k]
                d[j] += scene.rotations[g, k, j] * (anchor[k] - pupil[k])
        for j in range(2):
            e, s = q[j] * ray[2] - q[2] * ray[j], d[j] * ray[2] - d[2] * ray[j]
            top -= e * s
            bottom += s * s
    return top / bottom if bottom > 1e-14 else 0.0


@njit(cache=True, fastmath=FAST, nogil=True)
def _triangulate(scene, seen, point, scale2, p, warm):
    """Triangulate point `p` in place; return whether it has a position in front of the cameras."""
    a, z = seen.first[p], seen.first[p + 1]
    count = 0
    for n in range(a, z):
        if seen.weight[n] > 0.0:
            count += 1
    if count < 2:
        return False
    if warm:
        cost, _ = _refine(scene, seen.camera, point, seen.xy, seen.weight, a, z, False, p, scale2, 8, seen.weight)
        if cost < count * scale2:
            return scene.rhos[p] > BEHIND_ALLOWED
    linear = _linear_start(scene, seen.camera, seen.xy, seen.weight, a, z, p)
    ray = scene.directions[p].copy()
    scene.rhos[p] = max(linear, 1e-6)
    cost, _ = _refine(scene, seen.camera, point, seen.xy, seen.weight, a, z, False, p, scale2, 15, seen.weight)
    if cost > 0.2 * count * scale2:
        near, rho = scene.directions[p].copy(), scene.rhos[p]
        scene.directions[p] = ray
        scene.rhos[p] = 1e-6
        other, _ = _refine(scene, seen.camera, point, seen.xy, seen.weight, a, z, False, p, scale2, 15, seen.weight)
        if other >= cost:
            scene.directions[p] = near
            scene.rhos[p] = rho
    return scene.rhos[p] > BEHIND_ALLOWED


@njit(cache=True, fastmath=FAST, nogil=True)
def _triangulate_serial(scene, seen, point, scale2, wanted, good):
    for p in range(len(wanted)):
        if wanted[p]:
            good[p] = _triangulate(scene, seen, point, scale2, p, good[p])


@njit(cache=True, fastmath=FAST, nogil=True, parallel=True)
def _triangulate_parallel(scene, seen, point, scale2, wanted, good):
    for p in prange(len(wanted)):
        if wanted[p]:
            # A call of its own: within a parallel loop numba does not see that members of `scene` alias one another.
            good[p] = _triangulate(scene, seen, point, scale2, p, good[p])


def triangulate_points(
    scene: Scene, seen: Observations, point: np.ndarray, scale2: float, wanted: np.ndarray, good: np.ndarray
) -> None:
    """Triangulate the `wanted` (P,) points of a scene from their observations in known cameras, in place.

    A point that is `good` (P,) on entry is improved from where it is; others start from the linear inverse depth and,
    where that fits badly, from near infinity too. Points at infinity are allowed (inverse depth 0).

    Parameters
    ----------
    scene : its points are changed. seen : observations by point; `point` (N,) is each one's point.
    scale2 : square of the Cauchy scale. good : (P,) bool, filled: at least two observations, in front of the cameras.
    """
    few = len(seen.camera) <= FEW
    (_triangulate_serial if few else _triangulate_parallel)(scene, seen, point, scale2, wanted, good)


@njit(cache=True, fastmath=FAST, nogil=True)
def depth_variances(scene, seen, point, out):
    """Fill `out` (P,) with the variance of each point's inverse depth in known cameras, endless where nothing tells it.

    Parameters
    ----------
    scene : cameras, lens rows and points. seen : observations by point. point : (N,) each one's point. out : (P,),
        filled.
    """
    basis, e = np.zeros((3, 2)), np.empty(2)
    jc, jp, h = np.empty((2, LOCAL)), np.empty((2, 3)), np.empty((3, 3))
    for p in range(len(out)):
        tangent(scene.directions[p], basis)
        h[:] = 0.0
        for n in range(seen.first[p], seen.first[p + 1]):
            f, w2 = seen.camera[n], seen.weight[n] * seen.weight[n]
            if w2 > 0.0 and residual_and_derivatives(
                scene.rotations[f], scene.centres[f], scene.anchors[p], scene.directions[p], scene.rhos[p], basis,
                scene.lenses[f], seen.xy[n], e, jc, jp,
            ):  # fmt: skip
                for i in range(3):
                    for k in range(3):
                        h[i, k] += w2 * (jp[0, i] * jp[0, k] + jp[1, i] * jp[1, k])
        left = h[0, 0] * h[1, 1] - h[0, 1] * h[0, 1]
        if left <= 0.0:
            out[p] = np.inf
            continue
        # What is left of the inverse depth's information once the direction is eliminated.
        b0, b1 = h[0, 2], h[1, 2]
        own = h[2, 2] - (b0 * b0 * h[1, 1] - 2.0 * b0 * b1 * h[0, 1] + b1 * b1 * h[0, 0]) / left
        out[p] = 1.0 / own if own > 1e-12 * h[2, 2] and own > 0.0 else np.inf


@njit(cache=True, fastmath=FAST, nogil=True)
def resect_camera(scene, row, point, xy, weight, scale2, iterations, loose):
    """Find camera `row` of a scene from known points and their pixels, from the pose it has; changes that pose in
    place.

    Parameters
    ----------
    scene : cameras, lens rows and points. point : (N,) the points seen. xy : (N, 2) pixels. weight : (N,) one over
        sigma.
    scale2 : square of the Cauchy scale. iterations : at the most. loose : (N,) variance of each point's inverse depth.

    Returns the share of points within twice the scale.
    """
    camera = np.full(len(point), row, np.int64)
    _, inside = _refine(scene, camera, point, xy, weight, 0, len(point), True, row, scale2, iterations, loose)
    return inside / max(len(point), 1)
