"""Register reference patches in a picture to a small part of a pixel.

Inverse-compositional alignment (Baker and Matthews 2004) of a weighted patch with an affine warp, gain and offset:
``I(p + A u) = g T(u) + b`` over patch coordinates u. The reference's gradients and normal matrix are made once.
Positions here are pixels with centres at +0.5; patch coordinates count pixels from the feature.
"""

import numpy as np
from numba import njit, prange

PARAMETERS = 8
"""Of the fit: two of shift, four of the affine warp, gain and offset."""

FINE_PX = 0.15
"""Length of a step, pixels, after which the picture is interpolated by cubics."""

OK, LOST, OUTSIDE = 0, 1, 2

ENOUGH_PX = 0.015
"""Length of a step, pixels, after which a fit is done."""


@njit(cache=True, fastmath=True, nogil=True, inline="always")
def _cubic(image, x, y):
    """Catmull-Rom interpolation at (x, y) in pixels with centres at +0.5; the caller keeps two pixels of border."""
    x -= 0.5
    y -= 0.5
    x0, y0 = int(np.floor(x)), int(np.floor(y))
    fx, fy = x - x0, y - y0
    a0 = ((-0.5 * fx + 1.0) * fx - 0.5) * fx
    a1 = (1.5 * fx - 2.5) * fx * fx + 1.0
    a2 = ((-1.5 * fx + 2.0) * fx + 0.5) * fx
    a3 = (0.5 * fx - 0.5) * fx * fx
    b0 = ((-0.5 * fy + 1.0) * fy - 0.5) * fy
    b1 = (1.5 * fy - 2.5) * fy * fy + 1.0
    b2 = ((-1.5 * fy + 2.0) * fy + 0.5) * fy
    b3 = (0.5 * fy - 0.5) * fy * fy
    r0 = a0 * image[y0 - 1, x0 - 1] + a1 * image[y0 - 1, x0] + a2 * image[y0 - 1, x0 + 1] + a3 * image[y0 - 1, x0 + 2]
    r1 = a0 * image[y0, x0 - 1] + a1 * image[y0, x0] + a2 * image[y0, x0 + 1] + a3 * image[y0, x0 + 2]
    r2 = a0 * image[y0 + 1, x0 - 1] + a1 * image[y0 + 1, x0] + a2 * image[y0 + 1, x0 + 1] + a3 * image[y0 + 1, x0 + 2]
    r3 = a0 * image[y0 + 2, x0 - 1] + a1 * image[y0 + 2, x0] + a2 * image[y0 + 2, x0 + 1] + a3 * image[y0 + 2, x0 + 2]
    return b0 * r0 + b1 * r1 + b2 * r2 + b3 * r3


@njit(cache=True, fastmath=True, nogil=True, inline="always")
def _linear(image, x, y):
    """Bilinear interpolation, as `_cubic`: four taps for sixteen, near enough until the last steps."""
    x -= 0.5
    y -= 0.5
    x0, y0 = int(np.floor(x)), int(np.floor(y))
    fx, fy = x - x0, y - y0
    top = image[y0, x0] + fx * (image[y0, x0 + 1] - image[y0, x0])
    low = image[y0 + 1, x0] + fx * (image[y0 + 1, x0 + 1] - image[y0 + 1, x0])
    return top + fy * (low - top)


@njit(cache=True, fastmath=True, nogil=True)
def patch_weights(half):
    """Return the patch's window (P, P), P = 2 half + 1: a Gaussian that ends at a third of its height."""
    size = 2 * half + 1
    window = np.empty((size, size), np.float32)
    for j in range(size):
        for i in range(size):
            window[j, i] = np.exp(-((i - half) ** 2 + (j - half) ** 2) / (2.0 * (0.75 * half) ** 2))
    return window


@njit(cache=True, fastmath=True, nogil=True, inline="always")
def _row(gx, gy, value, u, v, row):
    row[0], row[1] = gx, gy
    row[2], row[3] = gx * u, gx * v
    row[4], row[5] = gy * u, gy * v
    row[6], row[7] = value, 1.0


@njit(cache=True, fastmath=True, nogil=True)
def make_reference(image, x, y, half, window, warp_prior, patch, gradient, inverse):
    """Cut a reference at (x, y); return False when it reaches out of the picture or holds too little.

    Fills `patch` (P, P), `gradient` (P, P, 2) and `inverse` (8, 8), the inverse normal matrix. `warp_prior` is the
    weight that holds the affine warp still, in the units of the normal matrix.
    """
    height, width = image.shape
    reach = half + 4
    if x < reach or y < reach or x > width - reach or y > height - reach:
        return False
    size = 2 * half + 1
    wide = np.empty((size + 2, size + 2))
    for j in range(size + 2):
        for i in range(size + 2):
            wide[j, i] = _cubic(image, x + i - half - 1, y + j - half - 1)
    for j in range(size):
        for i in range(size):
            patch[j, i] = wide[j + 1, i + 1]
            gradient[j, i, 0] = 0.5 * (wide[j + 1, i + 2] - wide[j + 1, i])
            gradient[j, i, 1] = 0.5 * (wide[j + 2, i + 1] - wide[j, i + 1])
    mean = patch.mean()
    normal = np.zeros((PARAMETERS, PARAMETERS))
    row = np.empty(PARAMETERS)
    for j in range(size):
        for i in range(size):
            patch[j, i] -= mean
            _row(gradient[j, i, 0], gradient[j, i, 1], patch[j, i], i - half, j - half, row)
            w = window[j, i]
            for a in range(PARAMETERS):
                for b in range(a + 1):
                    normal[a, b] += w * row[a] * row[b]
    for a in range(PARAMETERS):
        for b in range(a):
            normal[b, a] = normal[a, b]
    for a in range(2, 6):
        normal[a, a] += warp_prior
    for a in range(PARAMETERS):
        normal[a, a] = normal[a, a] * (1.0 + 1e-6) + 1e-6
    if normal[0, 0] * normal[1, 1] - normal[0, 1] ** 2 < 1.0:
        return False
    inverse[:] = np.linalg.inv(normal)
    return True


@njit(cache=True, fastmath=True, nogil=True)
def _register_one(image, patch, gradient, inverse, window, half, state, iterations, result):
    """Align one patch. `state` (8,): x, y, a00, a01, a10, a11, gain, offset, updated in place.

    `result` (3,): correlation, noise variance of x and y together over two, residual RMS in code values.
    """
    height, width = image.shape
    size = 2 * half + 1
    g = np.empty(PARAMETERS)
    step = np.empty(PARAMETERS)
    x_start, y_start = state[0], state[1]
    fine = False
    for iteration in range(iterations):
        reach_x = (abs(state[2]) + abs(state[3])) * half + 3.0
        reach_y = (abs(state[4]) + abs(state[5])) * half + 3.0
        if state[0] < reach_x or state[1] < reach_y or state[0] > width - reach_x or state[1] > height - reach_y:
            return OUTSIDE
        sw = si = st = sii = stt = sit = srr = 0.0
        g0 = g1 = g2 = g3 = g4 = g5 = g6 = g7 = 0.0
        gain, offset = state[6], state[7]
        a00, a01, a10, a11 = state[2], state[3], state[4], state[5]
        for j in range(size):
            v = float(j - half)
            for i in range(size):
                u = float(i - half)
                if fine:
                    value = _cubic(image, state[0] + a00 * u + a01 * v, state[1] + a10 * u + a11 * v)
                else:
                    value = _linear(image, state[0] + a00 * u + a01 * v, state[1] + a10 * u + a11 * v)
                t, w = patch[j, i], window[j, i]
                error = value - gain * t - offset
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


@njit(cache=True, fastmath=True, nogil=True)
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


@njit(cache=True, nogil=True, fastmath=True, parallel=True)
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


@njit(cache=True, nogil=True, fastmath=True, parallel=True)
def make_references(image, xy, half, warp_prior, patches, gradients, inverses, made):
    """Cut references at `xy` (N, 2) into `patches`, `gradients` and `inverses`; `made` (N,) bool tells which worked."""
    window = patch_weights(half)
    for n in prange(xy.shape[0]):
        made[n] = make_reference(
            image, xy[n, 0], xy[n, 1], half, window, warp_prior, patches[n], gradients[n], inverses[n]
        )
