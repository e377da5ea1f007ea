"""A small triangle rasteriser with a depth buffer, exact under lens distortion.

Triangles are tested against each pixel's own undistorted ray in homogeneous form (Olano and Greer 1997), so no
clipping is needed and a distorted picture needs no resampling.
"""

import numpy as np
from numba import njit

from amberkeel.core.compiled import FAST

NEAR = 1e-3


@njit(cache=True, fastmath=FAST, nogil=True)
def visible_triangles(corners, rays, boxes, depth, index):
    """Fill `depth` (1/z) and `index` (triangle, or -1) with the nearest triangle at each pixel.

    Parameters
    ----------
    corners : (T, 3, 3) triangle corners in the camera frame.
    rays : (2, H, W) float32 undistorted normalised coordinates of each pixel's sample.
    boxes : (T, 4) int, x0, x1, y0, y1 to look in; an empty box skips the triangle.
    depth, index : (H, W) outputs.
    """
    depth[:] = 0.0
    index[:] = -1
    for t in range(corners.shape[0]):
        x0, x1, y0, y1 = boxes[t, 0], boxes[t, 1], boxes[t, 2], boxes[t, 3]
        if x0 >= x1 or y0 >= y1:
            continue
        a, b, c = corners[t, 0], corners[t, 1], corners[t, 2]
        n0x, n0y, n0z = b[1] * c[2] - b[2] * c[1], b[2] * c[0] - b[0] * c[2], b[0] * c[1] - b[1] * c[0]
        n1x, n1y, n1z = c[1] * a[2] - c[2] * a[1], c[2] * a[0] - c[0] * a[2], c[0] * a[1] - c[1] * a[0]
        n2x, n2y, n2z = a[1] * b[2] - a[2] * b[1], a[2] * b[0] - a[0] * b[2], a[0] * b[1] - a[1] * b[0]
        det = a[0] * n0x + a[1] * n0y + a[2] * n0z
        if abs(det) < 1e-14:
            continue
        inv = 1.0 / det
        for y in range(y0, y1):
            for x in range(x0, x1):
                u, v = rays[0, y, x], rays[1, y, x]
                w0 = (n0x * u + n0y * v + n0z) * inv
                if w0 < 0.0:
                    continue
                w1 = (n1x * u + n1y * v + n1z) * inv
                if w1 < 0.0:
                    continue
                w2 = (n2x * u + n2y * v + n2z) * inv
                s = w0 + w1 + w2
                if w2 >= 0.0 and s > depth[y, x]:
                    depth[y, x] = s
                    index[y, x] = t


@njit(cache=True, fastmath=FAST, nogil=True)
def _texel(texels, start, size, u, v, weight, out):
    x = u * size - 0.5
    y = v * size - 0.5
    x0, y0 = int(np.floor(x)), int(np.floor(y))
    fx, fy = x - x0, y - y0
    mask = size - 1
    xa, xb, ya, yb = x0 & mask, (x0 + 1) & mask, y0 & mask, (y0 + 1) & mask
    p00, p01 = start + ya * size + xa, start + ya * size + xb
    p10, p11 = start + yb * size + xa, start + yb * size + xb
    w00, w01, w10, w11 = (1 - fx) * (1 - fy), fx * (1 - fy), (1 - fx) * fy, fx * fy
    for c in range(3):
        value = texels[p00, c] * w00 + texels[p01, c] * w01 + texels[p10, c] * w10 + texels[p11, c] * w11
        out[c] += weight * value


@njit(cache=True, fastmath=FAST, nogil=True)
def _lit(shadow, sx, sy, sz):
    """Share of sun at a position in the shadow map: bilinear over 2x2 depth tests."""
    size = shadow.shape[0]
    x0, y0 = int(np.floor(sx - 0.5)), int(np.floor(sy - 0.5))
    if x0 < 0 or y0 < 0 or x0 >= size - 1 or y0 >= size - 1:
        return 1.0
    fx, fy = sx - 0.5 - x0, sy - 0.5 - y0
    a = 1.0 if shadow[y0, x0] <= sz else 0.0
    b = 1.0 if shadow[y0, x0 + 1] <= sz else 0.0
    c = 1.0 if shadow[y0 + 1, x0] <= sz else 0.0
    d = 1.0 if shadow[y0 + 1, x0 + 1] <= sz else 0.0
    return (a * (1 - fx) + b * fx) * (1 - fy) + (c * (1 - fx) + d * fx) * fy


@njit(cache=True, fastmath=FAST, nogil=True)
def shade(
    corners, uv, texture, glow, ambient, sun, density, rays, depth, index,
    texels, level_start, level_size, pixel_angle, world_from_camera, position,
    sun_from_world, shadow, haze, haze_reach, first_actor, picture, matte,
):  # fmt: skip
    """Add one sample's colours to `picture` (H, W, 3) and its actor coverage to `matte` (H, W).

    Per triangle: `uv` (T, 3, 2), `texture` (T,), `glow` (T,), `ambient` and `sun` (T, 3) light at the corners,
    `density` (T,) texels a metre. `sun_from_world` (3, 4) maps world metres to shadow map texels and depth.
    Triangles from `first_actor` on count as actors in the matte.

    Parameters
    ----------
    corners : (T, 3, 3) of triangles in the camera. uv, texture, glow, ambient, sun, density : of the triangles.
        rays : (H, W, 3) of the pixels. depth, index : (H, W) of the nearest triangle. texels, level_start, level_size
        : of the textures. pixel_angle : radians a pixel. world_from_camera, position : of the camera. sun_from_world,
        shadow : of the shadow map. haze, haze_reach : colour, share a metre. first_actor : number. picture, matte :
        filled.
    """
    height, width = index.shape
    colour = np.zeros(3)
    levels = level_size.shape[0]
    for y in range(height):
        for x in range(width):
            t = index[y, x]
            if t < 0:
                for c in range(3):
                    picture[y, x, c] += haze[c]
                continue
            u, v = rays[0, y, x], rays[1, y, x]
            a, b, c3 = corners[t, 0], corners[t, 1], corners[t, 2]
            e1x, e1y, e1z = b[0] - a[0], b[1] - a[1], b[2] - a[2]
            e2x, e2y, e2z = c3[0] - a[0], c3[1] - a[1], c3[2] - a[2]
            nx, ny, nz = e1y * e2z - e1z * e2y, e1z * e2x - e1x * e2z, e1x * e2y - e1y * e2x
            z = 1.0 / depth[y, x]
            px, py, pz = u * z - a[0], v * z - a[1], z - a[2]
            area2 = nx * nx + ny * ny + nz * nz
            w1 = ((py * e2z - pz * e2y) * nx + (pz * e2x - px * e2z) * ny + (px * e2y - py * e2x) * nz) / area2
            w2 = ((e1y * pz - e1z * py) * nx + (e1z * px - e1x * pz) * ny + (e1x * py - e1y * px) * nz) / area2
            w0 = 1.0 - w1 - w2
            facing = abs(nx * u + ny * v + nz) / np.sqrt(area2 * (u * u + v * v + 1.0))
            footprint = z * pixel_angle * density[t] / np.sqrt(max(facing, 0.04))
            level = max(0.0, np.log2(max(footprint, 1e-6)) - 0.8)
            low = min(int(level), levels - 1)
            high = min(low + 1, levels - 1)
            share = min(level - low, 1.0)
            tu = w0 * uv[t, 0, 0] + w1 * uv[t, 1, 0] + w2 * uv[t, 2, 0]
            tv = w0 * uv[t, 0, 1] + w1 * uv[t, 1, 1] + w2 * uv[t, 2, 1]
            colour[:] = 0.0
            k = texture[t]
            _texel(texels, level_start[k, low], level_size[low], tu, tv, 1.0 - share, colour)
            if share > 0.0:
                _texel(texels, level_start[k, high], level_size[high], tu, tv, share, colour)
            if t >= first_actor:
                matte[y, x] += 1.0
            if glow[t] > 0.0:
                for c in range(3):
                    picture[y, x, c] += colour[c] * glow[t]
                continue
            light = w0 * ambient[t, 0] + w1 * ambient[t, 1] + w2 * ambient[t, 2]
            direct = w0 * sun[t, 0] + w1 * sun[t, 1] + w2 * sun[t, 2]
            if direct > 0.0:
                cx, cy, cz = u * z, v * z, z
                wx = (
                    position[0]
                    + world_from_camera[0, 0] * cx
                    + world_from_camera[0, 1] * cy
                    + world_from_camera[0, 2] * cz
                )
                wy = (
                    position[1]
                    + world_from_camera[1, 0] * cx
                    + world_from_camera[1, 1] * cy
                    + world_from_camera[1, 2] * cz
                )
                wz = (
                    position[2]
                    + world_from_camera[2, 0] * cx
                    + world_from_camera[2, 1] * cy
                    + world_from_camera[2, 2] * cz
                )
                m = sun_from_world
                sx = m[0, 0] * wx + m[0, 1] * wy + m[0, 2] * wz + m[0, 3]
                sy = m[1, 0] * wx + m[1, 1] * wy + m[1, 2] * wz + m[1, 3]
                sz = m[2, 0] * wx + m[2, 1] * wy + m[2, 2] * wz + m[2, 3]
                light += direct * _lit(shadow, sx, sy, sz + 0.04)
            clear = np.exp(-z * haze_reach)
            for c in range(3):
                picture[y, x, c] += colour[c] * light * clear + haze[c] * (1.0 - clear)


@njit(cache=True, fastmath=FAST, nogil=True)
def raise_heights(points, size, heights):
    """Draw triangles `points` (T, 3, 3) given as (map x, map y, height) into `heights`, keeping the highest.

    Parameters
    ----------
    points : (T, 3, 3). size : side of the map. heights : (size, size), raised.
    """
    heights[:] = -1e9
    for t in range(points.shape[0]):
        ax, ay, az = points[t, 0, 0], points[t, 0, 1], points[t, 0, 2]
        bx, by, bz = points[t, 1, 0], points[t, 1, 1], points[t, 1, 2]
        cx, cy, cz = points[t, 2, 0], points[t, 2, 1], points[t, 2, 2]
        det = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
        if abs(det) < 1e-9:
            continue
        x0 = max(0, int(np.floor(min(ax, bx, cx) - 0.5)))
        x1 = min(size, int(np.ceil(max(ax, bx, cx) + 0.5)))
        y0 = max(0, int(np.floor(min(ay, by, cy) - 0.5)))
        y1 = min(size, int(np.ceil(max(ay, by, cy) + 0.5)))
        for y in range(y0, y1):
            for x in range(x0, x1):
                px, py = x + 0.5 - ax, y + 0.5 - ay
                w1 = (px * (cy - ay) - (cx - ax) * py) / det
                w2 = ((bx - ax) * py - px * (by - ay)) / det
                if w1 >= -1e-6 and w2 >= -1e-6 and w1 + w2 <= 1.000001:
                    h = az + w1 * (bz - az) + w2 * (cz - az)
                    if h > heights[y, x]:
                        heights[y, x] = h
