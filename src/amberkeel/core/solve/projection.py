"""One observation of one point: residual and derivatives.

A point is homogeneous about a fixed anchor: ``X = anchor + direction / rho`` with a unit direction and an inverse
depth rho (after Civera et al. 2008, but with an anchor that does not move with a camera). A point at infinity has
rho 0. Lens rows (11,) are described in `radial_lens`. A camera sees from its entrance pupil, at
``centre + rotation @ arm``.
"""

import numpy as np
from numba import njit

from amberkeel.core.compiled import FAST
from amberkeel.core.solve.radial_lens import ARM_X, ARM_Y, ARM_Z, ASPECT, CX, CY, FOCAL, K1, K2, K3, READOUT, ROW_NAMES

POSE = 6
"""Derivatives by a camera's pose: three of its rotation, three of its position."""

LOCAL = POSE + len(ROW_NAMES)
"""Derivatives of one observation by its camera and lens: the pose's six, then those of `ROW_NAMES`."""

BEHIND = 1e6
"""Squared whitened residual given to a point behind the camera."""

NEAREST = 1e-4
"""Depth, over the length of the homogeneous point, below which a point counts as behind the camera."""

FAR_OFF_PX = 1e3
"""Residual of a point behind the camera, pixels along each axis."""


@njit(cache=True, fastmath=FAST, nogil=True)
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


@njit(cache=True, fastmath=FAST, nogil=True, inline="always")
def _to_camera(rotation, centre, anchor, m, rho, lens):
    """Return a homogeneous point in the camera's frame, three numbers, and its offset from the camera, three more."""
    ax, ay, az = lens[ARM_X], lens[ARM_Y], lens[ARM_Z]
    dx = anchor[0] - centre[0] - rotation[0, 0] * ax - rotation[0, 1] * ay - rotation[0, 2] * az
    dy = anchor[1] - centre[1] - rotation[1, 0] * ax - rotation[1, 1] * ay - rotation[1, 2] * az
    dz = anchor[2] - centre[2] - rotation[2, 0] * ax - rotation[2, 1] * ay - rotation[2, 2] * az
    px, py, pz = m[0] + rho * dx, m[1] + rho * dy, m[2] + rho * dz
    qx = rotation[0, 0] * px + rotation[1, 0] * py + rotation[2, 0] * pz
    qy = rotation[0, 1] * px + rotation[1, 1] * py + rotation[2, 1] * pz
    qz = rotation[0, 2] * px + rotation[1, 2] * py + rotation[2, 2] * pz
    return qx, qy, qz, dx, dy, dz


@njit(cache=True, fastmath=FAST, nogil=True)
def residual(rotation, centre, anchor, m, rho, lens, xy, out):
    """Fill `out` (2,) with projected minus measured pixels; return False when the point is behind the camera.

    Parameters
    ----------
    rotation : (3, 3) world_from_camera. centre : (3,) the camera's position. anchor, m, rho : (3,), (3,), float,
        the point. lens : (11,) row. xy : (2,) measured pixels. out : (2,), filled.
    """
    qx, qy, qz, _, _, _ = _to_camera(rotation, centre, anchor, m, rho, lens)
    if qz < NEAREST:
        out[0] = out[1] = FAR_OFF_PX
        return False
    x, y = qx / qz, qy / qz
    r2 = x * x + y * y
    gain = 1.0 + r2 * (lens[K1] + r2 * (lens[K2] + r2 * lens[K3]))
    out[0] = lens[CX] + lens[FOCAL] * x * gain - xy[0]
    out[1] = lens[CY] + lens[FOCAL] * lens[ASPECT] * y * gain - xy[1]
    return True


@njit(cache=True, fastmath=FAST, nogil=True)
def residual_and_derivatives(rotation, centre, anchor, m, rho, basis, lens, xy, out, jc, jp):
    """Fill the residual and its derivatives; return False when the point is behind the camera.

    Parameters
    ----------
    rotation : (3, 3) world_from_camera. centre : (3,) the camera's position in the world.
    anchor, m, rho, basis : (3,), (3,), float, (3, 2), the point and its tangent.
    lens : (11,) row. xy : (2,) measured pixels.
    out : (2,) filled with projected minus measured pixels.
    jc : (2, 16) filled with derivatives by the camera's turn (``R exp(w)``, radians), its position, and the lens's log
        focal length, k1, k2, k3, cx, cy, readout (0: it is the measurement that moves) and arm.
    jp : (2, 3) filled with derivatives by the point's direction along `basis` and by rho.
    """
    qx, qy, qz, dx, dy, dz = _to_camera(rotation, centre, anchor, m, rho, lens)
    if qz < NEAREST:
        out[0] = out[1] = FAR_OFF_PX
        return False
    iz = 1.0 / qz
    x, y = qx * iz, qy * iz
    r2 = x * x + y * y
    k1, k2, k3 = lens[K1], lens[K2], lens[K3]
    gain = 1.0 + r2 * (k1 + r2 * (k2 + r2 * k3))
    slope = k1 + r2 * (2.0 * k2 + r2 * 3.0 * k3)
    fx, fy = lens[FOCAL], lens[FOCAL] * lens[ASPECT]
    out[0] = lens[CX] + fx * x * gain - xy[0]
    out[1] = lens[CY] + fy * y * gain - xy[1]
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
    jc[0, POSE + FOCAL], jc[1, POSE + FOCAL] = fx * x * gain, fy * y * gain
    power = r2
    for k in range(K1, K3 + 1):
        jc[0, POSE + k], jc[1, POSE + k] = fx * x * power, fy * y * power
        power *= r2
    jc[0, POSE + CX], jc[1, POSE + CX], jc[0, POSE + CY], jc[1, POSE + CY] = 1.0, 0.0, 0.0, 1.0
    jc[0, POSE + READOUT] = jc[1, POSE + READOUT] = 0.0
    ax, ay, az = lens[ARM_X], lens[ARM_Y], lens[ARM_Z]
    for i in range(2):
        # By the pupil along the camera's axes; the turn moves the pupil by w x arm.
        bx, by, bz = (-rho * u0, -rho * u1, -rho * u2) if i == 0 else (-rho * v0, -rho * v1, -rho * v2)
        jc[i, POSE + ARM_X], jc[i, POSE + ARM_Y], jc[i, POSE + ARM_Z] = bx, by, bz
        jc[i, 0] += ay * bz - az * by
        jc[i, 1] += az * bx - ax * bz
        jc[i, 2] += ax * by - ay * bx
    return True
