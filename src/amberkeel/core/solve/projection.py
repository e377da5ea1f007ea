"""One observation of one point: residual and derivatives.

A point is homogeneous about a fixed anchor: ``X = anchor + direction / rho`` with a unit direction and an inverse
depth rho (after Civera et al. 2008, with the anchor held still instead of riding on a camera). At infinity rho is 0.

A lens is a flat array ``[fx, aspect, cx, cy, k1, k2, k3]``; its parameters are log fx, k1, k2, k3, cx, cy.
"""

import numpy as np
from numba import njit

LENS_PARAMETERS = 6
"""log focal length, k1, k2, k3, cx, cy."""

BEHIND = 1e6
"""Squared whitened residual given to a point behind the camera."""


@njit(cache=True, fastmath=True, nogil=True)
def tangent(m, basis):
    """Fill `basis` (3, 2) with two unit vectors orthogonal to the unit direction `m` (3,)."""
    k = 0
    if abs(m[1]) < abs(m[k]):
        k = 1
    if abs(m[2]) < abs(m[k]):
        k = 2
    ax = 1.0 if k == 0 else 0.0
    ay = 1.0 if k == 1 else 0.0
    az = 1.0 if k == 2 else 0.0
    x, y, z = m[1] * az - m[2] * ay, m[2] * ax - m[0] * az, m[0] * ay - m[1] * ax
    n = 1.0 / np.sqrt(x * x + y * y + z * z)
    basis[0, 0], basis[1, 0], basis[2, 0] = x * n, y * n, z * n
    basis[0, 1] = m[1] * z * n - m[2] * y * n
    basis[1, 1] = m[2] * x * n - m[0] * z * n
    basis[2, 1] = m[0] * y * n - m[1] * x * n


@njit(cache=True, fastmath=True, nogil=True)
def residual(rotation, centre, anchor, m, rho, lens, xy, out):
    """Fill `out` (2,) with projected minus measured pixels; return False when the point is behind."""
    dx, dy, dz = anchor[0] - centre[0], anchor[1] - centre[1], anchor[2] - centre[2]
    px, py, pz = m[0] + rho * dx, m[1] + rho * dy, m[2] + rho * dz
    qx = rotation[0, 0] * px + rotation[1, 0] * py + rotation[2, 0] * pz
    qy = rotation[0, 1] * px + rotation[1, 1] * py + rotation[2, 1] * pz
    qz = rotation[0, 2] * px + rotation[1, 2] * py + rotation[2, 2] * pz
    if qz < 1e-4:
        out[0] = out[1] = 1e3
        return False
    x, y = qx / qz, qy / qz
    r2 = x * x + y * y
    gain = 1.0 + r2 * (lens[4] + r2 * (lens[5] + r2 * lens[6]))
    out[0] = lens[2] + lens[0] * x * gain - xy[0]
    out[1] = lens[3] + lens[0] * lens[1] * y * gain - xy[1]
    return True


@njit(cache=True, fastmath=True, nogil=True)
def residual_and_derivatives(rotation, centre, anchor, m, rho, basis, lens, xy, out, jc, jp, jl):
    """Fill the residual and its derivatives; return False when the point is behind.

    Parameters
    ----------
    rotation (3, 3) world_from_camera, centre (3,) : the camera. anchor, m (3,), rho, basis (3, 2) : the point.
    out (2,) : projected minus measured, pixels.
    jc (2, 6) : by the camera's turn (``R exp(w)``, radians) and centre. jp (2, 3) : by the direction along `basis`
    and rho. jl (2, 6) : by log focal length, k1, k2, k3, cx and cy.
    """
    dx, dy, dz = anchor[0] - centre[0], anchor[1] - centre[1], anchor[2] - centre[2]
    px, py, pz = m[0] + rho * dx, m[1] + rho * dy, m[2] + rho * dz
    qx = rotation[0, 0] * px + rotation[1, 0] * py + rotation[2, 0] * pz
    qy = rotation[0, 1] * px + rotation[1, 1] * py + rotation[2, 1] * pz
    qz = rotation[0, 2] * px + rotation[1, 2] * py + rotation[2, 2] * pz
    if qz < 1e-4:
        out[0] = out[1] = 1e3
        return False
    iz = 1.0 / qz
    x, y = qx * iz, qy * iz
    r2 = x * x + y * y
    gain = 1.0 + r2 * (lens[4] + r2 * (lens[5] + r2 * lens[6]))
    slope = lens[4] + r2 * (2.0 * lens[5] + r2 * 3.0 * lens[6])
    fx, fy = lens[0], lens[0] * lens[1]
    out[0] = lens[2] + fx * x * gain - xy[0]
    out[1] = lens[3] + fy * y * gain - xy[1]
    a, b, c = gain + 2.0 * x * x * slope, 2.0 * x * y * slope, gain + 2.0 * y * y * slope
    u0, u1, u2 = fx * a * iz, fx * b * iz, -fx * (a * x + b * y) * iz
    v0, v1, v2 = fy * b * iz, fy * c * iz, -fy * (b * x + c * y) * iz
    jc[0, 0], jc[0, 1], jc[0, 2] = u1 * qz - u2 * qy, u2 * qx - u0 * qz, u0 * qy - u1 * qx
    jc[1, 0], jc[1, 1], jc[1, 2] = v1 * qz - v2 * qy, v2 * qx - v0 * qz, v0 * qy - v1 * qx
    for k in range(3):
        wu = u0 * rotation[k, 0] + u1 * rotation[k, 1] + u2 * rotation[k, 2]
        wv = v0 * rotation[k, 0] + v1 * rotation[k, 1] + v2 * rotation[k, 2]
        jc[0, 3 + k], jc[1, 3 + k] = -rho * wu, -rho * wv
        if k == 0:
            for e in range(2):
                jp[0, e], jp[1, e] = wu * basis[0, e], wv * basis[0, e]
            jp[0, 2], jp[1, 2] = wu * dx, wv * dx
        else:
            d = dy if k == 1 else dz
            for e in range(2):
                jp[0, e] += wu * basis[k, e]
                jp[1, e] += wv * basis[k, e]
            jp[0, 2] += wu * d
            jp[1, 2] += wv * d
    jl[0, 0], jl[1, 0] = fx * x * gain, fy * y * gain
    power = r2
    for k in range(1, 4):
        jl[0, k], jl[1, k] = fx * x * power, fy * y * power
        power *= r2
    jl[0, 4], jl[1, 4], jl[0, 5], jl[1, 5] = 1.0, 0.0, 0.0, 1.0
    return True
