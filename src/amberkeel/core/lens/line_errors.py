"""How far drawn points lie off the straight lines that explain them best, in pixels of the picture.

Lines are fitted in undistorted space and their distances carried back to pixels by the local scale (Sampson's
distance): else shrinking the picture would win. An axis line must run through its vanishing point (Förstner and Wrobel
2016, 10.6).
"""

import numpy as np
from numba import njit

from amberkeel.core.lens.kernels import slope_one, undistort_one

FREE = -1
"""Axis of a line that is only straight."""


@njit(cache=True, nogil=True)
def flatten(points, pinhole, c, u, slopes):
    """Fill `u` (N, 2) with the undistorted positions of pixels and `slopes` (N, 4) with their derivatives by pixels,
    row by row.

    Parameters
    ----------
    points (N, 2) : pixels. pinhole (4,) : fx, fy, cx, cy pixels. c (17,) : distortion.
    """
    for i in range(len(points)):
        x, y, _ = undistort_one(c, (points[i, 0] - pinhole[2]) / pinhole[0], (points[i, 1] - pinhole[3]) / pinhole[1])
        u[i, 0], u[i, 1] = x, y
        s00, s01, s10, s11 = slope_one(c, x, y)
        s00, s01, s10, s11 = s00 * pinhole[0], s01 * pinhole[0], s10 * pinhole[1], s11 * pinhole[1]
        det = s00 * s11 - s01 * s10
        if abs(det) < 1e-9:
            det = 1e-9
        slopes[i, 0], slopes[i, 1], slopes[i, 2], slopes[i, 3] = s11 / det, -s01 / det, -s10 / det, s00 / det


@njit(cache=True, nogil=True)
def line_errors(all_u, all_slopes, first, axis, group, rotations, out, normals):
    """Fill `out` (N,) with the distances of points, pixels, and `normals` (L, 3) with the lines in undistorted space.

    Parameters
    ----------
    all_u (N, 2), all_slopes (N, 4) : points as `flatten` gives them. first (L + 1,) : points of line k are rows
        first[k]:first[k + 1].
    axis (L,) : FREE, or 0, 1, 2 for the world's X, Y, Z. group (L,) : which rotation the line's frame has.
    rotations (G, 3, 3) : world_from_camera.
    """
    weights = np.empty(len(all_u))
    for k in range(len(axis)):
        a, n = first[k], first[k + 1] - first[k]
        u, slopes, weight = all_u[a : a + n], all_slopes[a : a + n], weights[a : a + n]
        dx, dy = u[n - 1, 0] - u[0, 0], u[n - 1, 1] - u[0, 1]
        size = max(np.sqrt(dx * dx + dy * dy), 1e-12)
        start_x, start_y = -dy / size, dx / size
        nx, ny, d = start_x, start_y, 0.0
        for _ in range(3):
            for i in range(n):
                gx = nx * slopes[i, 0] + ny * slopes[i, 2]
                gy = nx * slopes[i, 1] + ny * slopes[i, 3]
                weight[i] = 1.0 / max(gx * gx + gy * gy, 1e-18)
            if axis[k] == FREE:
                nx, ny, d = _straight(u, weight, n)
            else:
                nx, ny, d = _through(u, weight, n, rotations[group[k], axis[k]])
            if nx * start_x + ny * start_y < 0.0:
                nx, ny, d = -nx, -ny, -d
        normals[k, 0], normals[k, 1], normals[k, 2] = nx, ny, d
        for i in range(n):
            out[a + i] = (nx * u[i, 0] + ny * u[i, 1] + d) * np.sqrt(weight[i])


@njit(cache=True, nogil=True)
def _straight(u, weight, n):
    """Return the line nx x + ny y + d = 0 of least weighted square distance."""
    w = sx = sy = 0.0
    for i in range(n):
        w += weight[i]
        sx += weight[i] * u[i, 0]
        sy += weight[i] * u[i, 1]
    mx, my = sx / w, sy / w
    xx = xy = yy = 0.0
    for i in range(n):
        x, y = u[i, 0] - mx, u[i, 1] - my
        xx += weight[i] * x * x
        xy += weight[i] * x * y
        yy += weight[i] * y * y
    angle = 0.5 * np.arctan2(2.0 * xy, xx - yy)
    nx, ny = -np.sin(angle), np.cos(angle)
    return nx, ny, -(nx * mx + ny * my)


@njit(cache=True, nogil=True)
def _through(u, weight, n, v):
    """Return the line of least weighted square distance through the vanishing point `v` (3,), finite or not."""
    k = 0
    if abs(v[1]) < abs(v[k]):
        k = 1
    if abs(v[2]) < abs(v[k]):
        k = 2
    e = np.zeros(3)
    e[k] = 1.0
    p = np.cross(v, e)
    p /= np.sqrt((p * p).sum())
    q = np.cross(v, p)
    m00 = m01 = m11 = 0.0
    for i in range(n):
        a = p[0] * u[i, 0] + p[1] * u[i, 1] + p[2]
        b = q[0] * u[i, 0] + q[1] * u[i, 1] + q[2]
        m00 += weight[i] * a * a
        m01 += weight[i] * a * b
        m11 += weight[i] * b * b
    n00, n01, n11 = p[0] * p[0] + p[1] * p[1], p[0] * q[0] + p[1] * q[1], q[0] * q[0] + q[1] * q[1]
    total = m00 * n11 + m11 * n00 - 2.0 * m01 * n01
    det_m, det_n = max(m00 * m11 - m01 * m01, 0.0), n00 * n11 - n01 * n01
    least = 2.0 * det_m / max(total + np.sqrt(max(total * total - 4.0 * det_m * det_n, 0.0)), 1e-300)
    a, b, c = m00 - least * n00, m01 - least * n01, m11 - least * n11
    s, t = (-b, a) if abs(a) > abs(c) else (c, -b)
    x, y, d = s * p[0] + t * q[0], s * p[1] + t * q[1], s * p[2] + t * q[2]
    size = max(np.sqrt(x * x + y * y), 1e-300)
    return x / size, y / size, d / size
