"""Register reference patches in a picture to a small part of a pixel.

Inverse-compositional alignment (Baker and Matthews 2004) of a weighted patch with an affine warp, gain and offset:
``I(p + A u) = g T(u) + b`` over patch coordinates u. The reference's gradients and normal matrix are made once.
Positions here are pixels with centres at +0.5; patch coordinates count pixels from the feature.
"""

import numpy as np
from numba import njit, prange

from amberkeel.core.compiled import FAST

PARAMETERS = 8
"""Of the fit: two of shift, four of the affine warp, gain and offset."""

FINE_PX = 0.15
"""Length of a step, pixels, after which the picture is interpolated by cubics."""

OK, LOST, OUTSIDE = 0, 1, 2

ENOUGH_PX = 0.015
"""Length of a step, pixels, after which a fit is done."""


_HALF, _ONE, _ONE_AND_HALF, _TWO, _TWO_AND_HALF = (np.float32(v) for v in (0.5, 1.0, 1.5, 2.0, 2.5))
_STEP = np.uint64(1)
# Single precision and unsigned positions let the compiler take eight pixels at once.

_AHEAD = 256
"""Pixels added to positions in a patch before they are cut off to whole pixels, so that they are never below 0."""


@njit(cache=True, fastmath=FAST, nogil=True, inline="always")
def _taps(f):
    """Weights of the four pixels about a position that lies `f` behind the second of them (Catmull-Rom)."""
    return (
        ((-_HALF * f + _ONE) * f - _HALF) * f,
        (_ONE_AND_HALF * f - _TWO_AND_HALF) * f * f + _ONE,
        ((-_ONE_AND_HALF * f + _TWO) * f + _HALF) * f,
        (_HALF * f - _HALF) * f * f,
    )


@njit(cache=True, fastmath=FAST, nogil=True, inline="always")
def _along(pixels, p, a0, a1, a2, a3):
    return (
        a0 * pixels[p]
        + a1 * pixels[p + _STEP]
        + a2 * pixels[p + _STEP + _STEP]
        + a3 * pixels[p + _STEP + _STEP + _STEP]
    )


@njit(cache=True, fastmath=FAST, nogil=True, inline="always")
def cubic_at(image, x, y):
    """Return the picture (H, W) at one position, pixels with centres at +0.5; the caller keeps two pixels of border.

    Parameters
    ----------
    image : (H, W). x, y : pixels.
    """
    x0, y0 = int(np.floor(x - 0.5)), int(np.floor(y - 0.5))
    a0, a1, a2, a3 = _taps(x - 0.5 - x0)
    value = 0.0
    for j, b in enumerate(_taps(y - 0.5 - y0)):
        line = image[y0 - 1 + j]
        value += b * (a0 * line[x0 - 1] + a1 * line[x0] + a2 * line[x0 + 1] + a3 * line[x0 + 2])
    return value


@njit(cache=True, fastmath=FAST, nogil=True)
def _sample(image, state, half, fine, values):
    """Fill `values` (P * P,) float32 with the picture (H, W) float32 under a warped patch: by cubics when `fine`, else
    bilinearly, four taps for sixteen, near enough until the last steps. The caller keeps two pixels of border.
    """
    width = image.shape[1]
    pixels, down = image.ravel(), np.uint64(width)
    left, top = int(np.floor(state[0] - 0.5)), int(np.floor(state[1] - 0.5))
    x_middle, y_middle = np.float32(state[0] - 0.5 - left + _AHEAD), np.float32(state[1] - 0.5 - top + _AHEAD)
    a00, a01, a10, a11 = np.float32(state[2]), np.float32(state[3]), np.float32(state[4]), np.float32(state[5])
    base = (top - _AHEAD) * width + left - _AHEAD
    size = 2 * half + 1
    for j in range(size):
        v = np.float32(j - half)
        x_row, y_row = x_middle + a01 * v, y_middle + a11 * v
        if fine:
            for i in range(size):
                u = np.float32(i - half)
                x, y = x_row + a00 * u, y_row + a10 * u
                x0, y0 = np.int32(x), np.int32(y)
                a0, a1, a2, a3 = _taps(x - np.float32(x0))
                b0, b1, b2, b3 = _taps(y - np.float32(y0))
                p = np.uint64(base + y0 * width + x0 - width - 1)
                value = b0 * _along(pixels, p, a0, a1, a2, a3)
                value += b1 * _along(pixels, p + down, a0, a1, a2, a3)
                value += b2 * _along(pixels, p + down + down, a0, a1, a2, a3)
                values[j * size + i] = value + b3 * _along(pixels, p + down + down + down, a0, a1, a2, a3)
        else:
            for i in range(size):
                u = np.float32(i - half)
                x, y = x_row + a00 * u, y_row + a10 * u
                x0, y0 = np.int32(x), np.int32(y)
                fx = x - np.float32(x0)
                p = np.uint64(base + y0 * width + x0)
                q = p + down
                upper = pixels[p] + fx * (pixels[p + _STEP] - pixels[p])
                lower = pixels[q] + fx * (pixels[q + _STEP] - pixels[q])
                values[j * size + i] = upper + (y - np.float32(y0)) * (lower - upper)


@njit(cache=True, fastmath=FAST, nogil=True)
def patch_weights(half):
    """Return the patch's window (P, P), P = 2 half + 1: a Gaussian that ends at a third of its height."""
    size = 2 * half + 1
    window = np.empty((size, size), np.float32)
    for j in range(size):
        for i in range(size):
            window[j, i] = np.exp(-((i - half) ** 2 + (j - half) ** 2) / (2.0 * (0.75 * half) ** 2))
    return window


@njit(cache=True, fastmath=FAST, nogil=True)
def _shifted(image, x, y, half):
    """Return the picture about (x, y) at steps of one pixel (2 half + 1, 2 half + 1): first along rows, then along
    columns.
    """
    x0, y0 = int(np.floor(x - 0.5)), int(np.floor(y - 0.5))
    size, left, top = 2 * half + 1, x0 - half - 1, y0 - half - 1
    a0, a1, a2, a3 = _taps(np.float32(x - 0.5 - x0))
    b0, b1, b2, b3 = _taps(np.float32(y - 0.5 - y0))
    rows = np.empty((size + 3, size), np.float32)
    for j in range(size + 3):
        line = image[top + j, left : left + size + 3]
        for i in range(size):
            rows[j, i] = a0 * line[i] + a1 * line[i + 1] + a2 * line[i + 2] + a3 * line[i + 3]
    out = np.empty((size, size), np.float32)
    for j in range(size):
        for i in range(size):
            out[j, i] = b0 * rows[j, i] + b1 * rows[j + 1, i] + b2 * rows[j + 2, i] + b3 * rows[j + 3, i]
    return out


@njit(cache=True, fastmath=FAST, nogil=True)
def _product(a, b):
    total = 0.0
    for i in range(len(a)):
        total += a[i] * b[i]
    return total


@njit(cache=True, fastmath=FAST, nogil=True)
def make_reference(image, x, y, half, window, warp_prior, patch, gradient, inverse):
    """Cut a reference at (x, y); return False when it reaches out of the picture or holds too little.

    Fills `patch` (P, P), `gradient` (P, P, 2) and `inverse` (8, 8), the inverse normal matrix. `warp_prior` is the
    weight that holds the affine warp still, in the units of the normal matrix.

    Parameters
    ----------
    image : (H, W). x, y : pixels. half : of the patch, pixels. window : (P, P) weights of its pixels, P = 2 half
        + 1. warp_prior : weight that holds the affine warp. patch, gradient, inverse : filled.
    """
    height, width = image.shape
    reach = half + 4
    if x < reach or y < reach or x > width - reach or y > height - reach:
        return False
    size = 2 * half + 1
    wide = _shifted(image, x, y, half + 1)
    for j in range(size):
        for i in range(size):
            patch[j, i] = wide[j + 1, i + 1]
            gradient[j, i, 0] = 0.5 * (wide[j + 1, i + 2] - wide[j + 1, i])
            gradient[j, i, 1] = 0.5 * (wide[j + 2, i + 1] - wide[j, i + 1])
    mean = patch.mean()
    rows = np.empty((PARAMETERS, size * size))
    for j in range(size):
        for i in range(size):
            patch[j, i] -= mean
            root, n = np.sqrt(window[j, i]), j * size + i
            gx, gy = root * gradient[j, i, 0], root * gradient[j, i, 1]
            rows[0, n], rows[1, n] = gx, gy
            rows[2, n], rows[3, n] = gx * (i - half), gx * (j - half)
            rows[4, n], rows[5, n] = gy * (i - half), gy * (j - half)
            rows[6, n], rows[7, n] = root * patch[j, i], root
    normal = np.empty((PARAMETERS, PARAMETERS))
    for a in range(PARAMETERS):
        for b in range(a + 1):
            normal[a, b] = normal[b, a] = _product(rows[a], rows[b])
    for a in range(2, 6):
        normal[a, a] += warp_prior
    for a in range(PARAMETERS):
        normal[a, a] = normal[a, a] * (1.0 + 1e-6) + 1e-6
    if normal[0, 0] * normal[1, 1] - normal[0, 1] ** 2 < 1.0:
        return False
    inverse[:] = np.linalg.inv(normal)
    return True


@njit(cache=True, fastmath=FAST, nogil=True)
def _sums(values, patch, gradient, window, half, gain, offset, g):
    """Fill `g` (8,), the gradient of the weighted square error, and return the weighted sums (over the window alone, of
    the values less their offset, the patch, their squares and product, and the square error).
    """
    size = 2 * half + 1
    sw = si = st = sii = stt = sit = srr = np.float32(0.0)
    g0 = g1 = g2 = g3 = g4 = g5 = g6 = g7 = np.float32(0.0)
    for j in range(size):
        v = np.float32(j - half)
        for i in range(size):
            u = np.float32(i - half)
            value = values[j * size + i] - offset
            t, w = patch[j, i], window[j, i]
            error = value - gain * t
            we = w * error
            x, y = we * gradient[j, i, 0], we * gradient[j, i, 1]
            g0 += x
            g1 += y
            g2 += x * u
            g3 += x * v
            g4 += y * u
            g5 += y * v
            g6 += we * t
            g7 += we
            sw += w
            si += w * value
            st += w * t
            sii += w * value * value
            stt += w * t * t
            sit += w * value * t
            srr += we * error
    g[0], g[1], g[2], g[3], g[4], g[5], g[6], g[7] = g0, g1, g2, g3, g4, g5, g6, g7
    return sw, si, st, sii, stt, sit, srr


@njit(cache=True, fastmath=FAST, nogil=True)
def _register_one(image, patch, gradient, inverse, window, half, state, iterations, result):
    """Align one patch. `state` (8,): x, y, a00, a01, a10, a11, gain, offset, updated in place.

    `result` (3,): correlation, noise variance of x and y together over two, residual RMS in code values.
    """
    height, width = image.shape
    g = np.empty(PARAMETERS)
    step = np.empty(PARAMETERS)
    values = np.empty(patch.size, np.float32)
    x_start, y_start = state[0], state[1]
    fine = False
    for _ in range(iterations):
        reach_x = (abs(state[2]) + abs(state[3])) * half + 3.0
        reach_y = (abs(state[4]) + abs(state[5])) * half + 3.0
        if state[0] < reach_x or state[1] < reach_y or state[0] > width - reach_x or state[1] > height - reach_y:
            return OUTSIDE
        _sample(image, state, half, fine, values)
        gain = state[6]
        sw, si, st, sii, stt, sit, srr = _sums(
            values, patch, gradient, window, half, np.float32(gain), np.float32(state[7]), g
        )
        cross = sit - si * st / sw
        own = (sii - si * si / sw) * (stt - st * st / sw)
        result[0] = cross / np.sqrt(max(own, 1e-9))
        result[2] = np.sqrt(srr / sw)
        dof = max(sw - PARAMETERS, 8.0)
        noise2 = srr / dof / max(gain * gain, 0.04)
        result[1] = 0.5 * noise2 * (inverse[0, 0] + inverse[1, 1])
        for a in range(PARAMETERS):
            step[a] = 0.0
            for b in range(PARAMETERS):
                step[a] += inverse[a, b] * g[b]
            step[a] /= gain
        _compose(state, step)
        moved = (state[0] - x_start) ** 2 + (state[1] - y_start) ** 2
        if moved > half * half or not state[6] > 0.2 or state[6] > 5.0:
            return LOST
        # Convergence is linear, by a factor of five or more a step: what is left is below a hundredth of a pixel.
        length = np.sqrt(step[0] * step[0] + step[1] * step[1])
        if fine and length < ENOUGH_PX:
            break
        fine = fine or length < FINE_PX
    return OK


@njit(cache=True, fastmath=FAST, nogil=True)
def _compose(state, step):
    """Update the warp by the inverse of the step: A (I + D)^-1, and gain and offset by their share."""
    d00, d01, d10, d11 = 1.0 + step[2], step[3], step[4], 1.0 + step[5]
    det = d00 * d11 - d01 * d10
    i00, i01, i10, i11 = d11 / det, -d01 / det, -d10 / det, d00 / det
    a00, a01, a10, a11 = state[2], state[3], state[4], state[5]
    state[2], state[3] = a00 * i00 + a01 * i10, a00 * i01 + a01 * i11
    state[4], state[5] = a10 * i00 + a11 * i10, a10 * i01 + a11 * i11
    gain = state[6]
    state[0] -= state[2] * step[0] + state[3] * step[1]
    state[1] -= state[4] * step[0] + state[5] * step[1]
    state[6] = gain * (1.0 + step[6])
    state[7] += gain * step[7]


@njit(cache=True, nogil=True, fastmath=FAST, parallel=True)
def register_patches(image, patches, gradients, inverses, half, states, iterations, results, status):
    """Align N reference patches in `image` (H, W) float32, which is quicker than uint8.

    Parameters
    ----------
    patches (N, P, P), gradients (N, P, P, 2), inverses (N, 8, 8) : from `make_references`.
    states : (N, 8) x, y, warp a00 a01 a10 a11, gain, offset; the start on entry, the fit on return.
    results : (N, 3) output: correlation, position variance in square pixels (a coordinate), residual RMS.
    status : (N,) output: OK, LOST or OUTSIDE.
    """
    window = patch_weights(half)
    for n in prange(states.shape[0]):
        status[n] = _register_one(
            image, patches[n], gradients[n], inverses[n], window, half, states[n], iterations, results[n]
        )


@njit(cache=True, nogil=True, fastmath=FAST, parallel=True)
def make_references(image, xy, half, warp_prior, patches, gradients, inverses, made):
    """Cut references at `xy` (N, 2) into `patches`, `gradients` and `inverses`; `made` (N,) bool tells which worked.

    Parameters
    ----------
    image : (H, W). xy : (N, 2) pixels. half : of the patches, pixels. warp_prior : weight that holds the affine
        warp. patches (N, P, P), gradients (N, P, P, 2), inverses (N, 8, 8), made (N,) : filled.
    """
    window = patch_weights(half)
    for n in prange(xy.shape[0]):
        made[n] = make_reference(
            image, xy[n, 0], xy[n, 1], half, window, warp_prior, patches[n], gradients[n], inverses[n]
        )
