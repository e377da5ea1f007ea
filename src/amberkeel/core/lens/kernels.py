"""Distortion of one point and its inverse, for all models at once, on flat coefficients.

Coefficients (17,): k1 k2 k3, p1 p2, division, turn, and ten of the two-axis model: a20 a02 a40 a22 a04, b20 b02 b40 b22
b04. With (X, Y) the undistorted position turned by `turn` about the centre and r² = X² + Y²::

    X_d = X (1 + k1 r² + k2 r⁴ + k3 r⁶ + a20 X² + a02 Y² + a40 X⁴ + a22 X²Y² + a04 Y⁴) + 2 p1 X Y + p2 (r² + 2 X²)
    Y_d = Y (1 + k1 r² + k2 r⁴ + k3 r⁶ + b20 X² + b02 Y² + b40 X⁴ + b22 X²Y² + b04 Y⁴) + p1 (r² + 2 Y²) + 2 p2 X Y

turned back again (Brown 1966; the two-axis terms as in his series, each axis with its own). The division model
``x_u = x_d / (1 + division r_d²)`` (Fitzgibbon 2001) stands alone: with it, the others must be 0.
"""

import numpy as np
from numba import njit, prange

COEFFICIENTS = 17
TURN, DIVISION, TWO_AXIS = 6, 5, 7
INDEX = {
    "k1": 0,
    "k2": 1,
    "k3": 2,
    "p1": 3,
    "p2": 4,
    "division": DIVISION,
    "turn": TURN,
    **{f"t{k}": TWO_AXIS + k for k in range(10)},
}
"""Where each named coefficient stands; t0 to t9 are those of the two-axis model."""

FEW = 4000
"""Points up to which one thread does all: waiting for a second one on shared cores takes longer than it saves."""

_ITERATIONS = 40
_CLOSE = 1e-8
"""Size of a step after which a position is found: Newton's next would be its square."""


@njit(cache=True, nogil=True)
def distort_one(c, x, y):
    """Return the distorted position of an undistorted one; NaN where the division model has none.

    Parameters
    ----------
    c : (17,) coefficients. x, y : undistorted normalised coordinates.
    """
    if c[5] != 0.0:
        root = 1.0 - 4.0 * c[5] * (x * x + y * y)
        if root < 0.0:
            return np.nan, np.nan
        gain = 2.0 / (1.0 + np.sqrt(root))
        return x * gain, y * gain
    cosine, sine = (np.cos(c[6]), np.sin(c[6])) if c[6] != 0.0 else (1.0, 0.0)
    u, v = cosine * x + sine * y, cosine * y - sine * x
    uu, vv = u * u, v * v
    r2 = uu + vv
    gain = 1.0 + r2 * (c[0] + r2 * (c[1] + r2 * c[2]))
    p = (
        u * (gain + c[7] * uu + c[8] * vv + c[9] * uu * uu + c[10] * uu * vv + c[11] * vv * vv)
        + 2.0 * c[3] * u * v
        + c[4] * (r2 + 2.0 * uu)
    )
    q = (
        v * (gain + c[12] * uu + c[13] * vv + c[14] * uu * uu + c[15] * uu * vv + c[16] * vv * vv)
        + c[3] * (r2 + 2.0 * vv)
        + 2.0 * c[4] * u * v
    )
    return cosine * p - sine * q, sine * p + cosine * q


@njit(cache=True, nogil=True)
def slope_one(c, x, y):
    """Return the derivatives of the distorted position by the undistorted one: dxx, dxy, dyx, dyy.

    Parameters
    ----------
    c : (17,) coefficients. x, y : undistorted normalised coordinates.
    """
    if c[5] != 0.0:
        r2 = x * x + y * y
        root = np.sqrt(max(1.0 - 4.0 * c[5] * r2, 1e-12))
        gain = 2.0 / (1.0 + root)
        # d(gain)/d(r²) = 4 division / (root (1 + root)²)
        d = 2.0 * 4.0 * c[5] / (root * (1.0 + root) ** 2)
        return gain + d * x * x, d * x * y, d * x * y, gain + d * y * y
    cosine, sine = (np.cos(c[6]), np.sin(c[6])) if c[6] != 0.0 else (1.0, 0.0)
    u, v = cosine * x + sine * y, cosine * y - sine * x
    uu, vv = u * u, v * v
    r2 = uu + vv
    gain = 1.0 + r2 * (c[0] + r2 * (c[1] + r2 * c[2]))
    rise = 2.0 * (c[0] + r2 * (2.0 * c[1] + r2 * 3.0 * c[2]))
    a = gain + c[7] * uu + c[8] * vv + c[9] * uu * uu + c[10] * uu * vv + c[11] * vv * vv
    b = gain + c[12] * uu + c[13] * vv + c[14] * uu * uu + c[15] * uu * vv + c[16] * vv * vv
    au, av = (
        u * (rise + 2.0 * c[7] + 4.0 * c[9] * uu + 2.0 * c[10] * vv),
        v * (rise + 2.0 * c[8] + 2.0 * c[10] * uu + 4.0 * c[11] * vv),
    )
    bu, bv = (
        u * (rise + 2.0 * c[12] + 4.0 * c[14] * uu + 2.0 * c[15] * vv),
        v * (rise + 2.0 * c[13] + 2.0 * c[15] * uu + 4.0 * c[16] * vv),
    )
    pu, pv = a + u * au + 2.0 * c[3] * v + 6.0 * c[4] * u, u * av + 2.0 * c[3] * u + 2.0 * c[4] * v
    qu, qv = v * bu + 2.0 * c[3] * u + 2.0 * c[4] * v, b + v * bv + 6.0 * c[3] * v + 2.0 * c[4] * u
    # Turned: T^t S T with T taking (x, y) to (u, v).
    m00, m01 = pu * cosine - pv * sine, pu * sine + pv * cosine
    m10, m11 = qu * cosine - qv * sine, qu * sine + qv * cosine
    return cosine * m00 - sine * m10, cosine * m01 - sine * m11, sine * m00 + cosine * m10, sine * m01 + cosine * m11


@njit(cache=True, nogil=True)
def undistort_one(c, x, y):
    """Return the undistorted position of a distorted one and whether the model reaches it, by Newton's method from the
    middle out.

    Beyond a fold the nearest position before it is returned.

    Parameters
    ----------
    c : (17,) coefficients. x, y : distorted normalised coordinates.
    """
    if c[5] != 0.0:
        gain = 1.0 + c[5] * (x * x + y * y)
        return x / max(gain, 1e-9), y / max(gain, 1e-9), gain > 1e-6
    # The picture is walked outwards along the ray, so that a fold is met from inside and never jumped over.
    u, v, parts = x, y, 1
    for attempt in range(3):
        parts = (1, 4, 16)[attempt]
        u, v, sound = 0.0, 0.0, True
        if attempt == 0:
            u, v = x, y
        for part in range(1, parts + 1):
            goal_x, goal_y = x * part / parts, y * part / parts
            settled = False
            for _ in range(_ITERATIONS):
                p, q = distort_one(c, u, v)
                a, b, d, e = slope_one(c, u, v)
                det = a * e - b * d
                if not (det > 0.02 and a + e > 0.0):
                    break
                ex, ey = goal_x - p, goal_y - q
                du, dv = (e * ex - b * ey) / det, (a * ey - d * ex) / det
                size = np.sqrt(du * du + dv * dv)
                limit = 0.3 / max(size, 0.3)
                u += du * limit
                v += dv * limit
                if size < _CLOSE:
                    settled = True
                    break
            if not settled:
                sound = False
                break
        if sound and u * x + v * y >= 0.0 and _inside_fold(c, u, v):
            return u, v, True
    return _to_fold(c, x, y)


@njit(cache=True, nogil=True)
def _inside_fold(c, u, v):
    """Return whether the map keeps rising from the middle to a position."""
    for k in range(1, 6):
        a, b, d, e = slope_one(c, u * k / 5.0, v * k / 5.0)
        if a * e - b * d <= 0.0 or a + e <= 0.0:
            return False
    return True


@njit(cache=True, nogil=True)
def _to_fold(c, x, y):
    """Return the last position along the ray (x, y) before the map folds."""
    r = np.sqrt(x * x + y * y)
    if r == 0.0:
        return 0.0, 0.0, True
    low, high = 0.0, 1.0
    while high < 64.0 and _inside_fold(c, x * high, y * high):
        low, high = high, 2.0 * high
    for _ in range(50):
        middle = 0.5 * (low + high)
        if _inside_fold(c, x * middle, y * middle):
            low = middle
        else:
            high = middle
    return x * low, y * low, False


@njit(cache=True, nogil=True)
def _distort_few(c, xy, out):
    for n in range(len(xy)):
        out[n, 0], out[n, 1] = distort_one(c, xy[n, 0], xy[n, 1])


@njit(cache=True, nogil=True, parallel=True)
def _distort_many(c, xy, out):
    for n in prange(len(xy)):
        out[n, 0], out[n, 1] = distort_one(c, xy[n, 0], xy[n, 1])


@njit(cache=True, nogil=True)
def _undistort_few(c, xy, out, reached):
    for n in range(len(xy)):
        out[n, 0], out[n, 1], reached[n] = undistort_one(c, xy[n, 0], xy[n, 1])


@njit(cache=True, nogil=True, parallel=True)
def _undistort_many(c, xy, out, reached):
    for n in prange(len(xy)):
        out[n, 0], out[n, 1], reached[n] = undistort_one(c, xy[n, 0], xy[n, 1])


def distort_all(c: np.ndarray, xy: np.ndarray, out: np.ndarray) -> None:
    """Fill `out` (N, 2) with the distorted positions of `xy` (N, 2).

    Parameters
    ----------
    c : (17,) coefficients. xy : (N, 2) undistorted normalised coordinates. out : (N, 2), filled.
    """
    (_distort_few if len(xy) <= FEW else _distort_many)(c, xy, out)


def undistort_all(c: np.ndarray, xy: np.ndarray, out: np.ndarray, reached: np.ndarray) -> None:
    """Fill `out` (N, 2) with the undistorted positions of `xy` (N, 2), and `reached` (N,) bool.

    Parameters
    ----------
    c : (17,) coefficients. xy : (N, 2) distorted normalised coordinates. out : (N, 2), reached : (N,) bool,
        filled.
    """
    (_undistort_few if len(xy) <= FEW else _undistort_many)(c, xy, out, reached)
