"""Whether what is seen at a spot over several frames stands still in the world: kernels over a grid of spots.

A spot is led through the frames by flow. If it stands still, one depth explains all of its positions, through the
camera that is known; by how much they miss it is its departure. Departure alone is no proof: flow errs where near
things cover far ones, and in what has no texture. So the pictures are asked as well. The spot's patch is compared with
what lies, on every other frame, where flow leads, and where the best still point would be. Only what flow explains
and no still point does, neither at the spot's own depth nor at those of what stands still about it, moves by itself:
a likelihood ratio with truncated squares (Black and Anandan 1996).
"""

import numpy as np
from numba import njit, prange

from amberkeel.core.compiled import FAST
from amberkeel.core.lens.kernels import distort_one

PATCH = 3
"""Samples across a patch, `PITCH` apart."""

PITCH = 2.0
"""Analysis pixels between the samples of a patch."""

LIKE_PITCH = 1.5
"""The same where colours are compared."""

ASKED_FOR_SHADE, SHADE_LIKE = 3.0, 2.0
"""Unlikeness from which it is asked whether only the light has changed, and up to which it has when one gain is taken
out.
"""

SURELY_LIKE = 1.2
"""Mean square over the noise below which nothing more is asked."""

AGREE = 2
"""Frames that must show the same thing there for a spot to be known as still."""

ROUNDS = 4
"""Steps in which a depth is found."""

LOSS_PX = 1.0
"""Scale of the Cauchy loss with which it is, analysis pixels."""

TRUNCATED = 3.0
"""Differences count up to this many sigmas."""


SHARES = 16
"""Threads that can be dealt shares alike."""


def dealt(asked: np.ndarray) -> np.ndarray:
    """Return the rows (M,) of what is asked (N,) bool, in an order in which contiguous shares cost alike: what is dear
    lies together in the picture.
    """
    rows = np.nonzero(asked)[0]
    return np.concatenate([rows[k::SHARES] for k in range(SHARES)])


@njit(cache=True, fastmath=FAST, nogil=True)
def _flow_at(flow, x, y):
    """Return flow (h, w, 2) at a position, pixel centres at +0.5."""
    h, w = flow.shape[0], flow.shape[1]
    u = min(max(x - 0.5, 0.0), w - 1.001)
    v = min(max(y - 0.5, 0.0), h - 1.001)
    i, j = int(u), int(v)
    a, b = u - i, v - j
    p = (flow[j, i, 0] * (1 - a) + flow[j, i + 1, 0] * a) * (1 - b)
    p += (flow[j + 1, i, 0] * (1 - a) + flow[j + 1, i + 1, 0] * a) * b
    q = (flow[j, i, 1] * (1 - a) + flow[j, i + 1, 1] * a) * (1 - b)
    q += (flow[j + 1, i, 1] * (1 - a) + flow[j + 1, i + 1, 1] * a) * b
    return p, q


@njit(cache=True, fastmath=FAST, nogil=True)
def _value_at(picture, x, y):
    """Return a picture (h, w) at a position; it is repeated beyond its edge."""
    h, w = picture.shape
    u = min(max(x - 0.5, 0.0), w - 1.001)
    v = min(max(y - 0.5, 0.0), h - 1.001)
    i, j = int(u), int(v)
    a, b = u - i, v - j
    top = picture[j, i] * (1 - a) + picture[j, i + 1] * a
    below = picture[j + 1, i] * (1 - a) + picture[j + 1, i + 1] * a
    return top * (1 - b) + below * b


@njit(cache=True, fastmath=FAST, nogil=True)
def lead(ahead, back, xy, alive, slack, share):
    """Lead spots from one frame to the next; changes `xy` (N, 2) and `alive` (N,).

    Parameters
    ----------
    ahead, back : (h, w, 2) flow there and back. slack, share : how far a spot may miss itself on the way back: pixels,
    and as a share of its way.
    """
    h, w = ahead.shape[0], ahead.shape[1]
    for n in range(len(xy)):
        if not alive[n]:
            continue
        p, q = _flow_at(ahead, xy[n, 0], xy[n, 1])
        x, y = xy[n, 0] + p, xy[n, 1] + q
        if x < 1.0 or y < 1.0 or x > w - 1.0 or y > h - 1.0:
            alive[n] = False
            continue
        r, s = _flow_at(back, x, y)
        if (p + r) ** 2 + (q + s) ** 2 > (slack + share * np.sqrt(p * p + q * q)) ** 2:
            alive[n] = False
            continue
        xy[n, 0], xy[n, 1] = x, y


@njit(cache=True, fastmath=FAST, nogil=True)
def _bring(camera, ray, y, lens, out):
    """Put a ray (3,) into a camera: `out` (6,) is its direction there and how that changes with the inverse distance.

    Parameters
    ----------
    camera : (25,) rotation and position from the ray's origin, how both change over a frame interval, and the zoom.
    y : row in which the point is seen, for a rolling shutter. lens : (6,) as for `fit_depths`.
    """
    tau = lens[4] * (y / lens[5] - 0.5)
    for i in range(3):
        a = b = 0.0
        for j in range(3):
            turned = camera[3 * i + j] + tau * camera[12 + 3 * i + j]
            a += turned * ray[j]
            b += turned * (camera[9 + j] + tau * camera[21 + j])
        out[i], out[3 + i] = a, -b


@njit(cache=True, fastmath=FAST, nogil=True)
def _seen(brought, rho, zoom, lens, coefficients):
    """Return where a point on a ray brought into a camera is seen, at an inverse distance; NaN behind."""
    depth = brought[2] + rho * brought[5]
    if depth <= 1e-6:
        return np.nan, np.nan
    u, v = distort_one(coefficients, (brought[0] + rho * brought[3]) / depth, (brought[1] + rho * brought[4]) / depth)
    return lens[0] * zoom * u + lens[2], lens[1] * zoom * v + lens[3]


@njit(cache=True, fastmath=FAST, nogil=True)
def _depth_of(brought, cameras, xy, alive, lens, coefficients, most, start):
    """Return the inverse distance that explains a spot's positions (K, 2) best, from 0 to `most`."""
    rho = start
    if most <= 0.0:
        return 0.0
    step = 1e-3 * most
    for _ in range(ROUNDS):
        top = below = 0.0
        for k in range(len(xy)):
            if not alive[k]:
                continue
            x, y = _seen(brought[k], rho, cameras[k, 24], lens, coefficients)
            x2, y2 = _seen(brought[k], rho + step, cameras[k, 24], lens, coefficients)
            if not (x == x and x2 == x2):
                continue
            dx, dy = (x2 - x) / step, (y2 - y) / step
            ex, ey = xy[k, 0] - x, xy[k, 1] - y
            weight = 1.0 / (1.0 + (ex * ex + ey * ey) / (LOSS_PX * LOSS_PX))
            top += weight * (dx * ex + dy * ey)
            below += weight * (dx * dx + dy * dy)
        if below < 1e-12:
            break
        before = rho
        rho = min(max(rho + top / below, 0.0), most)
        if abs(rho - before) < 0.3 * step:
            break
    return rho


@njit(cache=True, fastmath=FAST, nogil=True, parallel=True)
def fit_depths(cameras, rays, xy, alive, lens, coefficients, most, start, rho, departure, count):
    """Find each spot's depth and how far it departs from standing still at it; fills `rho`, `departure` and `count`.

    Parameters
    ----------
    cameras : (K, 25) of the frames compared with. rays : (N, 3) in the world, from the spot's own camera.
    xy : (N, K, 2) where flow leads each spot. alive : (N, K) bool. lens : (6,) focal lengths, principal point, readout,
    height. coefficients : (17,) of distortion. most, start : inverse distances. departure : (N,) pixels, RMS.
    """
    for n in prange(len(rays)):
        count[n] = 0
        brought = np.empty((xy.shape[1], 6))
        for k in range(xy.shape[1]):
            count[n] += alive[n, k]
            if alive[n, k]:
                _bring(cameras[k], rays[n], xy[n, k, 1], lens, brought[k])
        if count[n] == 0:
            departure[n], rho[n] = np.nan, np.nan
            continue
        rho[n] = _depth_of(brought, cameras, xy[n], alive[n], lens, coefficients, most, start)
        total = 0.0
        for k in range(xy.shape[1]):
            if alive[n, k]:
                x, y = _seen(brought[k], rho[n], cameras[k, 24], lens, coefficients)
                total += min((x - xy[n, k, 0]) ** 2 + (y - xy[n, k, 1]) ** 2, 400.0) if x == x else 400.0
        departure[n] = np.sqrt(total / count[n])


@njit(cache=True, fastmath=FAST, nogil=True)
def _inside(u, v, w, h):
    """Return whether a position, NaN for none, lies in a picture."""
    return u == u and 1.0 <= u <= w - 1.0 and 1.0 <= v <= h - 1.0


@njit(cache=True, fastmath=FAST, nogil=True)
def _unlike(here, there, x, y, u, v, sigma):
    """Return by how much a patch at (x, y) of one picture differs from that at (u, v) of another: mean square over the
    noise, each difference truncated; below 0 where the other one lies outside.
    """
    h, w = there.shape
    if not _inside(u, v, w, h):
        return -1.0
    total = 0.0
    half = (PATCH - 1) / 2.0
    for i in range(PATCH):
        for j in range(PATCH):
            a, b = (i - half) * PITCH, (j - half) * PITCH
            d = (_value_at(here, x + a, y + b) - _value_at(there, u + a, v + b)) / sigma
            total += min(d * d, TRUNCATED * TRUNCATED)
    return total / (PATCH * PATCH)


@njit(cache=True, fastmath=FAST, nogil=True, parallel=True)
def ask_pictures(
    here, pictures, spots, cameras, rays, xy, alive, lens, coefficients, depths, judged, sigma, least_px, ratio
):
    """Compare flow with the best still point by the pictures, for the spots that are judged; fills their `ratio` (N,),
    log likelihoods a sample.

    Parameters
    ----------
    here : (h, w) luma. pictures : (K, h, w), of the frames compared with. spots : (N, 2). depths : (N, D) inverse
    distances that are tried, NaN for none. judged : (M,) rows of the spots, `dealt`. sigma : of differences of luma.
    least_px : how far a still point must lie from where flow leads to be told from it. Others as for `fit_depths`.
    """
    for turn in prange(len(judged)):
        n = judged[turn]
        count = xy.shape[1]
        brought, led = np.empty((count, 6)), np.empty(count)
        for k in range(count):
            if alive[n, k]:
                _bring(cameras[k], rays[n], xy[n, k, 1], lens, brought[k])
                led[k] = _unlike(here, pictures[k], spots[n, 0], spots[n, 1], xy[n, k, 0], xy[n, k, 1], sigma)
        best = 1e9
        for d in range(depths.shape[1]):
            rho = depths[n, d]
            if not (rho == rho):
                continue
            ahead, told = 0.0, 0
            for k in range(count):
                if not alive[n, k]:
                    continue
                u, v = _seen(brought[k], rho, cameras[k, 24], lens, coefficients)
                if u == u and (u - xy[n, k, 0]) ** 2 + (v - xy[n, k, 1]) ** 2 < least_px * least_px:
                    told += 1
                    continue
                still = _unlike(here, pictures[k], spots[n, 0], spots[n, 1], u, v, sigma)
                if still < 0.0:
                    continue
                ahead += 0.5 * (still - led[k])
                told += 1
            if told:
                best = min(best, ahead / told)
        ratio[n] = best if best < 1e9 else 0.0


@njit(cache=True, fastmath=FAST, nogil=True)
def _patch_at(picture, x, y, out):
    """Fill `out` (PATCH², 3) with the colours of a patch of a picture (h, w, 3)."""
    h, w = picture.shape[0], picture.shape[1]
    half = (PATCH - 1) / 2.0
    for i in range(PATCH):
        for j in range(PATCH):
            u = min(max(x + (i - half) * LIKE_PITCH - 0.5, 0.0), w - 1.001)
            v = min(max(y + (j - half) * LIKE_PITCH - 0.5, 0.0), h - 1.001)
            r, q = int(v), int(u)
            a, b = u - q, v - r
            p00, p01, p10, p11 = (1 - a) * (1 - b), a * (1 - b), (1 - a) * b, a * b
            for c in range(3):
                out[i * PATCH + j, c] = (
                    p00 * picture[r, q, c]
                    + p01 * picture[r, q + 1, c]
                    + p10 * picture[r + 1, q, c]
                    + p11 * picture[r + 1, q + 1, c]
                )


@njit(cache=True, fastmath=FAST, nogil=True)
def _colours_apart(own, other, unit):
    """Return by how much the colours of two patches differ: mean square over the noise, truncated."""
    total = 0.0
    for m in range(PATCH * PATCH):
        d0, d1, d2 = own[m, 0] - other[m, 0], own[m, 1] - other[m, 1], own[m, 2] - other[m, 2]
        total += min((d0 * d0 + d1 * d1 + d2 * d2) * unit, TRUNCATED * TRUNCATED)
    return total / (PATCH * PATCH)


@njit(cache=True, fastmath=FAST, nogil=True)
def _fit_gain(own, other):
    """Return the gain of all colours by which another patch comes nearest to the own one; changes `other` by it."""
    top = below = 0.0
    for m in range(PATCH * PATCH):
        for c in range(3):
            top += own[m, c] * other[m, c]
            below += other[m, c] * other[m, c]
    gain = top / max(below, 1.0)
    for m in range(PATCH * PATCH):
        for c in range(3):
            other[m, c] *= gain
    return gain


@njit(cache=True, fastmath=FAST, nogil=True)
def _shade(own, other, pictures, brought, rho, cameras, lens, coefficients, unit, least):
    """Return the gain that makes a spot most like what stands still there at an inverse distance, where it then is;
    else 1.
    """
    out, h, w = 1.0, pictures.shape[1], pictures.shape[2]
    for k in range(len(pictures)):
        u, v = _seen(brought[k], rho, cameras[k, 24], lens, coefficients)
        if not _inside(u, v, w, h):
            continue
        _patch_at(pictures[k], u, v, other)
        gain = _fit_gain(own, other)
        apart = _colours_apart(own, other, unit)
        if apart < least:
            least = apart
            out = gain if apart < SHADE_LIKE else 1.0
    return out


@njit(cache=True, fastmath=FAST, nogil=True, parallel=True)
def ask_colours(here, pictures, spots, cameras, rays, lens, coefficients, depths, judged, sigma, unlike, shaded):
    """Tell how unlike each spot that is judged is to what stands still there: fills its `unlike` (N,), mean square over
    the noise, of the depth that fits best on the `AGREE` frames that fit best; left as it is where nothing tells.

    What stands still is seen again on some frame before or after, whatever covers it on others; what moves is not.
    Where one gain of all colours makes it like, its light alone has changed: fills `shaded` (N,) with that gain.

    Parameters
    ----------
    here : (h, w, 3) colours. pictures : (K, h, w, 3). sigma : of differences of colours. Others as for `ask_pictures`.
    """
    h, w = here.shape[0], here.shape[1]
    unit = 1.0 / (3.0 * sigma * sigma)
    for turn in prange(len(judged)):
        n = judged[turn]
        best, at = 1e9, np.nan
        brought, low = np.empty((len(pictures), 6)), np.empty(AGREE)
        own, other = np.empty((PATCH * PATCH, 3), np.float32), np.empty((PATCH * PATCH, 3), np.float32)
        _patch_at(here, spots[n, 0], spots[n, 1], own)
        for k in range(len(pictures)):
            _bring(cameras[k], rays[n], spots[n, 1], lens, brought[k])
        for d in range(depths.shape[1]):
            rho = depths[n, d]
            if not (rho == rho):
                continue
            low[:] = 1e9
            for k in range(len(pictures)):
                u, v = _seen(brought[k], rho, cameras[k, 24], lens, coefficients)
                if not _inside(u, v, w, h):
                    continue
                _patch_at(pictures[k], u, v, other)
                apart = _colours_apart(own, other, unit)
                for m in range(AGREE):
                    if apart < low[m]:
                        low[m], apart = apart, low[m]
                if low[AGREE - 1] < SURELY_LIKE:
                    break
            apart = low[AGREE - 1] if low[AGREE - 1] < 1e9 else low[0]
            if apart < best:
                best, at = apart, rho
            if best < SURELY_LIKE:
                break
        if best < 1e9:
            unlike[n] = best
        if 1e9 > best > ASKED_FOR_SHADE:
            shaded[n] = _shade(own, other, pictures, brought, at, cameras, lens, coefficients, unit, best)
