"""Triangulate points from known cameras, robustly, with points at infinity as normal guests."""

import numpy as np
from numba import njit, prange

from amberkeel.core.geometry import rotation_exp
from amberkeel.core.solve.projection import LENS_PARAMETERS, residual_and_derivatives, tangent


@njit(cache=True, fastmath=True, nogil=True)
def _ray(lens, xy, out):
    """Fill `out` (3,) with the unit direction in the camera of a pixel (fixed-point undistortion)."""
    xd, yd = (xy[0] - lens[2]) / lens[0], (xy[1] - lens[3]) / (lens[0] * lens[1])
    x, y = xd, yd
    for _ in range(20):
        r2 = x * x + y * y
        gain = 1.0 + r2 * (lens[4] + r2 * (lens[5] + r2 * lens[6]))
        if gain < 0.2:
            break
        x, y = xd / gain, yd / gain
    n = 1.0 / np.sqrt(x * x + y * y + 1.0)
    out[0], out[1], out[2] = x * n, y * n, n


@njit(cache=True, fastmath=True, nogil=True)
def _start(rotations, centres, lenses, camera, xy, weight, a, z, anchor, m):
    """Put the anchor at the first usable camera and the direction along its ray; return the linear inverse depth."""
    ray = np.empty(3)
    host = -1
    for n in range(a, z):
        if weight[n] > 0.0:
            host = n
            break
    if host < 0:
        return -2.0
    f = camera[host]
    _ray(lenses[camera[host]], xy[host], ray)
    for k in range(3):
        anchor[k] = centres[f, k]
        m[k] = rotations[f, k, 0] * ray[0] + rotations[f, k, 1] * ray[1] + rotations[f, k, 2] * ray[2]
    top = bottom = 0.0
    for n in range(a, z):
        if weight[n] == 0.0 or n == host:
            continue
        g = camera[n]
        _ray(lenses[g], xy[n], ray)
        p = np.zeros(3)
        d = np.zeros(3)
        for j in range(3):
            for k in range(3):
                p[j] += rotations[g, k, j] * m[k]
                d[j] += rotations[g, k, j] * (anchor[k] - centres[g, k])
        for j in range(2):
            e, s = p[j] * ray[2] - p[2] * ray[j], d[j] * ray[2] - d[2] * ray[j]
            top -= e * s
            bottom += s * s
    return top / bottom if bottom > 1e-14 else 0.0


@njit(cache=True, fastmath=True, nogil=True, inline="always")
def _normal(h, g, j, e, w2, size):
    """Add one observation to a normal matrix and its right side."""
    for a in range(size):
        g[a] -= w2 * (j[0, a] * e[0] + j[1, a] * e[1])
        for b in range(size):
            h[a, b] += w2 * (j[0, a] * j[0, b] + j[1, a] * j[1, b])


@njit(cache=True, fastmath=True, nogil=True)
def _refine(rotations, centres, lenses, camera, xy, weight, a, z, anchor, m, rho, scale2, iterations):
    """Improve direction and inverse depth by damped Gauss-Newton under a Cauchy loss; return (rho, cost)."""
    basis, e = np.empty((3, 2)), np.empty(2)
    jc, jp, jl = np.empty((2, 6)), np.empty((2, 3)), np.empty((2, LENS_PARAMETERS))
    damping, last = 1e-3, 1e300
    kept_m, kept_rho = m.copy(), rho
    kept_h, kept_g = np.zeros((3, 3)), np.zeros(3)
    h, g = np.zeros((3, 3)), np.zeros(3)
    for _ in range(iterations):
        tangent(m, basis)
        h[:] = 0.0
        g[:] = 0.0
        logs, product = 0.0, 1.0
        for n in range(a, z):
            if weight[n] == 0.0:
                continue
            f = camera[n]
            if not residual_and_derivatives(
                rotations[f], centres[f], anchor, m, rho, basis, lenses[f], xy[n], e, jc, jp, jl
            ):
                product *= 1.0 + 1e6 / scale2
            else:
                w2 = weight[n] * weight[n]
                bend = 1.0 + (e[0] * e[0] + e[1] * e[1]) * w2 / scale2
                product *= bend
                w2 /= bend
                _normal(h, g, jp, e, w2, 3)
            if product > 1e200:
                logs += np.log(product)
                product = 1.0
        cost = 0.5 * scale2 * (logs + np.log(product))
        if cost <= last:
            done = last - cost < 1e-7 * cost
            kept_m[:] = m
            kept_rho, last = rho, cost
            if done:
                break
            damping *= 0.2
        else:
            damping *= 10.0
            m[:] = kept_m
            rho = kept_rho
            tangent(m, basis)
            h[:] = kept_h
            g[:] = kept_g
        kept_h[:] = h
        kept_g[:] = g
        for i in range(3):
            h[i, i] = h[i, i] * (1.0 + damping) + 1e-9
        step = np.linalg.solve(h, g)
        norm = 0.0
        for i in range(3):
            m[i] += basis[i, 0] * step[0] + basis[i, 1] * step[1]
            norm += m[i] * m[i]
        norm = np.sqrt(norm)
        for i in range(3):
            m[i] /= norm
        rho = (rho + step[2]) / norm
    m[:] = kept_m
    return kept_rho, last


@njit(cache=True, fastmath=True, nogil=True, parallel=True)
def triangulate(rotations, centres, lenses, first, camera, xy, weight, scale2, wanted, anchors, directions, rhos, good):
    """Place the `wanted` (P,) points from their observations in known cameras.

    Arrays are those of a `Bundle`; `lenses` (F, 7) has one for each camera. A point that is `good` on entry is improved from where it is; others start from the
    linear inverse depth and, where that fits badly, from near infinity too.
    Fills `anchors`, `directions`, `rhos` and `good` (P,): at least two observations, in front of the cameras.
    """
    for p in prange(len(first) - 1):
        if not wanted[p]:
            continue
        a, z = first[p], first[p + 1]
        warm, good[p] = good[p], False
        seen = 0
        for n in range(a, z):
            if weight[n] > 0.0:
                seen += 1
        if seen < 2:
            continue
        if warm:
            rhos[p], cost = _refine(
                rotations, centres, lenses, camera, xy, weight, a, z, anchors[p], directions[p], rhos[p], scale2, 8
            )
            good[p] = rhos[p] > -1e-2
            if cost < seen * scale2:
                continue
        anchor, m = np.empty(3), np.empty(3)
        linear = _start(rotations, centres, lenses, camera, xy, weight, a, z, anchor, m)
        m2 = m.copy()
        rho, cost = _refine(rotations, centres, lenses, camera, xy, weight, a, z, anchor, m, max(linear, 1e-6), scale2, 15)
        if cost > 0.2 * seen * scale2:
            rho2, cost2 = _refine(rotations, centres, lenses, camera, xy, weight, a, z, anchor, m2, 1e-6, scale2, 15)
            if cost2 < cost:
                m, rho = m2, rho2
        anchors[p], directions[p], rhos[p] = anchor, m, rho
        good[p] = rho > -1e-2


@njit(cache=True, fastmath=True, nogil=True)
def resect(rotation, centre, anchors, directions, rhos, lens, xy, weight, scale2, iterations):
    """Find one camera from points (N) and their pixels `xy` (N, 2), from a start close by; changes it in place.

    Damped Gauss-Newton under a Cauchy loss of scale squared `scale2`. Returns the share of points within twice the scale.
    """
    basis, e = np.zeros((3, 2)), np.empty(2)
    jc, jp, jl = np.empty((2, 6)), np.empty((2, 3)), np.empty((2, LENS_PARAMETERS))
    damping, last = 1e-3, 1e300
    kept_r, kept_c = rotation.copy(), centre.copy()
    kept_h, kept_g = np.zeros((6, 6)), np.zeros(6)
    h, g = np.zeros((6, 6)), np.zeros(6)
    inside = 0
    for _ in range(iterations):
        h[:] = 0.0
        g[:] = 0.0
        logs, product, count = 0.0, 1.0, 0
        for n in range(len(rhos)):
            if not residual_and_derivatives(
                rotation, centre, anchors[n], directions[n], rhos[n], basis, lens, xy[n], e, jc, jp, jl
            ):
                product *= 1.0 + 1e6 / scale2
            else:
                w2 = weight[n] * weight[n]
                bend = 1.0 + (e[0] * e[0] + e[1] * e[1]) * w2 / scale2
                count += bend < 5.0
                product *= bend
                _normal(h, g, jc, e, w2 / bend, 6)
            if product > 1e200:
                logs += np.log(product)
                product = 1.0
        cost = 0.5 * scale2 * (logs + np.log(product))
        if cost <= last:
            done = last - cost < 1e-7 * cost
            kept_r[:] = rotation
            kept_c[:] = centre
            last, inside = cost, count
            if done:
                break
            damping *= 0.2
        else:
            damping *= 10.0
            rotation[:] = kept_r
            centre[:] = kept_c
            h[:] = kept_h
            g[:] = kept_g
        kept_h[:] = h
        kept_g[:] = g
        for i in range(6):
            h[i, i] = h[i, i] * (1.0 + damping) + 1e-9
        step = np.linalg.solve(h, g)
        rotation[:] = rotation @ rotation_exp(step[:3])
        centre += step[3:]
    rotation[:] = kept_r
    centre[:] = kept_c
    return inside / max(len(rhos), 1)
