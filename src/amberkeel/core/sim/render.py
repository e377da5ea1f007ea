"""Render frames of a simulated shot: shutter, antialiasing, lens, exposure, grain, and the truth behind them."""

from collections.abc import Callable, Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.spatial import cKDTree
from scipy.spatial.transform import Rotation, Slerp

from amberkeel.core.camera import CameraPath, row_times
from amberkeel.core.lens import Lens
from amberkeel.core.sim.meshes import Mesh
from amberkeel.core.sim.motion import Move
from amberkeel.core.sim.raster import NEAR, shade, visible_triangles
from amberkeel.core.sim.scene import Scene, light_on, mesh_at

ARM_M = 0.4
"""Metres in front of the camera nearer than which nothing is put in to measure slip by."""

GHOST_FREE = 1.0
"""Samples for each pixel that the picture moves while the shutter is open."""

BAND_ROWS = 8
"""Rows of a rolling shutter that share a camera position; each row has its own rotation. Every sample of a pixel begins
its bands at another row, so that no step is left.
"""


@dataclass(frozen=True)
class Shot:
    """A simulated camera take.

    Attributes
    ----------
    name : the shot's name.
    scene, lens, move : what is filmed, through what, along which path.
    frames : (F,) frame numbers. fps : frames a second.
    sensor_width_mm : width of the filmed part of the sensor.
    shutter : open share of a frame's time, centred on the frame's own time.
    samples : samples a pixel, spread over the pixel and the shutter. Blurred frames take more.
    grain : standard deviation of grain at middle grey, in code values of 8 bit.
    exposure : gain by frame time. seed : for grain and sample positions.
    readout : share of the frame interval between the first and the last row of a rolling shutter.
    """

    name: str
    scene: Scene
    lens: Lens
    move: Move
    frames: np.ndarray
    fps: float = 24.0
    sensor_width_mm: float = 24.0
    shutter: float = 0.5
    samples: int = 9
    grain: float = 1.2
    exposure: Callable[[float], float] = lambda t: 1.0
    seed: int = 1
    readout: float = 0.0


def truth(shot: Shot) -> CameraPath:
    """Return the true camera at each frame's mid-shutter, its middle row's with a rolling shutter."""
    positions, rotations = shot.move.poses(shot.frames)
    return CameraPath(shot.frames, positions, rotations, shot.lens, readout=shot.readout)


def _ray_map(lens: Lens) -> tuple[np.ndarray, np.ndarray]:
    """Return each pixel's undistorted ray (2, H, W), and how it changes by a pixel along x and y (2, 2, H, W)."""
    x, y = np.meshgrid(np.arange(lens.width) + 0.5, np.arange(lens.height) + 0.5)
    px = np.stack([x, y], -1)
    rays = lens.normalise(px)
    step = 0.5
    grad = [
        (lens.normalise(px + d) - lens.normalise(px - d)) / (2 * step)
        for d in (np.array([step, 0]), np.array([0, step]))
    ]
    return np.ascontiguousarray(np.moveaxis(rays, -1, 0)), np.ascontiguousarray(np.moveaxis(np.stack(grad), -1, 1))


def _sample_plan(count: int, rng: np.random.Generator) -> tuple[np.ndarray, np.ndarray]:
    """Return pixel offsets (count, 2) under a tent two pixels wide, and shutter times (count,) in -0.5 to 0.5.

    Each row and each column of the pixel holds one sample (a lattice by the golden ratio), so that upright edges are as
    well sampled as slanted ones. Offsets and times come in opposite pairs: the mean position and time carry no bias.
    """
    away = np.arange(count) - 0.5 * (count - 1)
    golden = 0.5 * (np.sqrt(5.0) - 1.0)
    rank = np.argsort(np.argsort(away * golden - np.round(away * golden)))
    uv = (np.stack([np.arange(count), rank], 1) + 0.5) / count
    tent = np.where(uv < 0.5, np.sqrt(2 * uv) - 1.0, 1.0 - np.sqrt(2.0 * (1.0 - uv)))
    times = (np.arange(count) + 0.5) / count - 0.5
    half = rng.permutation(count // 2)
    order = np.empty(count, int)
    order[: len(half)] = np.where(rng.random(len(half)) < 0.5, half, count - 1 - half)
    order[::-1][: len(half)] = count - 1 - order[: len(half)]
    if count % 2:
        order[count // 2] = count // 2
    return tent, times[order]


def _boxes(corners: np.ndarray, lens: Lens) -> np.ndarray:
    """Return the pixels (T, 4) as x0, x1, y0, y1 in which each triangle in the camera frame can be seen."""
    edge = np.array([[0, 0], [lens.width, 0], [0, lens.height], [lens.width, lens.height], [0, lens.height / 2]])
    reach = np.abs(lens.normalise(edge)).max(0) * 1.02
    x, y, z = corners[..., 0], corners[..., 1], corners[..., 2]
    out = z.max(1) <= NEAR
    for side in (x - reach[0] * z, -x - reach[0] * z, y - reach[1] * z, -y - reach[1] * z):
        out |= side.min(1) > 0.0
    boxes = np.zeros((len(corners), 4), np.int64)
    seen = np.nonzero(~out)[0]
    boxes[seen] = _boxes_of_seen(corners[seen], lens, reach)
    return boxes


def _boxes_of_seen(corners: np.ndarray, lens: Lens, reach: np.ndarray) -> np.ndarray:
    """Return the boxes (T, 4) of triangles that are not wholly outside `reach`, the view's half size at depth 1."""
    z = corners[..., 2]
    far_off = np.abs(corners[..., :2] / np.maximum(z, 0.02)[..., None]).max(1) > 1.5 * reach
    whole = (z.min(1) <= 0.02) | far_off.any(1)
    px = lens.project(np.where(whole[:, None, None], 1.0, corners))
    low, high = px.min(1), px.max(1)
    pad = 3.0 + (0.1 if any(lens.radial) else 0.0) * (high - low)
    size = np.array([lens.width, lens.height])
    low = np.clip(np.floor(low - pad), 0, size).astype(np.int64)
    high = np.clip(np.ceil(high + pad), 0, size).astype(np.int64)
    low[whole], high[whole] = 0, size
    return np.stack([low[:, 0], high[:, 0], low[:, 1], high[:, 1]], 1)


def _texel_density(mesh: Mesh, size: int, first: int = 0) -> np.ndarray:
    """Return texels a metre (T,) of the triangles from `first` on, whose textures have `size` texels a side."""

    def area(p):
        a, b = p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]
        cross = np.cross(a, b) if p.shape[-1] == 3 else a[:, 0] * b[:, 1] - a[:, 1] * b[:, 0]
        return np.linalg.norm(cross, axis=-1) if p.shape[-1] == 3 else np.abs(cross)

    return np.sqrt(area(mesh.uv[first:]) / np.maximum(area(mesh.corners[first:]), 1e-12)) * size


class Renderer:
    """Renders frames of one shot; keeps the lens's ray map between frames."""

    def __init__(self, shot: Shot):
        self.shot = shot
        self.rays, self.grad = _ray_map(shot.lens)

    def linear(self, frame: float) -> tuple[np.ndarray, np.ndarray]:
        """Return linear light (H, W, 3) and actor coverage (H, W), 0 to 1, at a frame."""
        shot = self.shot
        shape = (shot.lens.height, shot.lens.width)
        picture, matte = np.zeros((*shape, 3)), np.zeros(shape)
        depth, index = np.empty(shape), np.empty(shape, np.int64)
        rng = np.random.default_rng([shot.seed, int(round(frame * 16))])
        offsets, times = _sample_plan(self._samples(frame), rng)
        starts = 1 + rng.permutation(len(times)) % BAND_ROWS
        for offset, time, start in zip(offsets, frame + times * shot.shutter, starts):
            self._sample(time, offset, start, depth, index, picture, matte)
        return picture / len(times), matte / len(times)

    def _samples(self, frame: float) -> int:
        """Return how many samples a pixel a frame needs: more when its blur is long, lest it fall apart into ghosts."""
        ends = frame + 0.5 * self.shot.shutter * np.array([-1.0, 1.0])
        _, rotations = self.shot.move.poses(ends)
        turn = np.linalg.norm((rotations[0].T @ rotations[1])[:2, 2])
        return max(self.shot.samples, int(np.ceil(GHOST_FREE * turn * self.shot.lens.focal_px[0])))

    def _sample(self, time, offset, start, depth, index, picture, matte) -> None:
        shot, scene, baked = self.shot, self.shot.scene, self.shot.scene.baked()
        mesh, first_actor = mesh_at(scene, time)
        ambient, sun = light_on(scene, mesh)
        moving = _texel_density(mesh, baked.level_size[0], first_actor)
        density = np.concatenate([self._still_density, moving])
        grid = (self.rays + self.grad[0] * offset[0] + self.grad[1] * offset[1]).astype(np.float32)
        for rows, rays, corners, boxes, position, rotation in self._bands(mesh.corners, grid, time, start):
            visible_triangles(corners, rays, boxes, depth[rows], index[rows])
            shade(
                corners, mesh.uv, mesh.texture, mesh.glow, ambient, sun, density,
                rays, depth[rows], index[rows], baked.texels, baked.level_start, baked.level_size,
                1.0 / shot.lens.focal_px[0], rotation, position, baked.sun_from_world, baked.shadow,
                scene.haze, scene.haze_reach, first_actor, picture[rows], matte[rows],
            )  # fmt: skip

    @cached_property
    def _still_density(self) -> np.ndarray:
        """Texels a metre (T,) of the set."""
        return _texel_density(self.shot.scene.static, self.shot.scene.baked().level_size[0])

    def _bands(self, world: np.ndarray, rays: np.ndarray, time: float, start: int):
        """Yield bands of rows: their slice, rays (2, h, W), corners in the camera, boxes within the band, and its pose.

        Parameters
        ----------
        world : (T, 3, 3) corners. rays : (2, H, W) of the pixels, each in its own row's camera. time : frame time of
            the middle row. start : row at which the second band begins.
        """
        move, lens, readout = self.shot.move, self.shot.lens, self.shot.readout
        if not readout:
            positions, rotations = move.poses(np.array([time]))
            corners = (world - positions[0]) @ rotations[0]
            yield slice(0, lens.height), rays, corners, _boxes(corners, lens), positions[0], rotations[0]
            return
        edges = np.unique(np.concatenate([[0], np.arange(start, lens.height, BAND_ROWS), [lens.height]]))
        whole, corners = self._swept_boxes(world, time), np.zeros_like(world)
        _, at_edges = move.poses(time + row_times(edges, lens.height, readout))
        by_row = Slerp(edges, Rotation.from_matrix(at_edges))(np.arange(lens.height) + 0.5).as_matrix()
        positions, rotations = move.poses(time + row_times(0.5 * (edges[1:] + edges[:-1]), lens.height, readout))
        for top, end, position, rotation in zip(edges[:-1], edges[1:], positions, rotations):
            seen = np.nonzero((whole[:, 2] < end) & (whole[:, 3] > top))[0]
            corners[seen] = (world[seen] - position) @ rotation
            boxes = np.zeros_like(whole)
            boxes[seen, :2], boxes[seen, 2:] = whole[seen, :2], np.clip(whole[seen, 2:] - top, 0, end - top)
            own = np.concatenate([rays[:, top:end], np.ones_like(rays[:1, top:end])])
            turned = (rotation.T @ by_row[top:end]) @ np.moveaxis(own, 0, 1)
            flat = np.ascontiguousarray(np.moveaxis(turned[:, :2] / turned[:, 2:], 1, 0), dtype=np.float32)
            yield slice(top, end), flat, corners, boxes, position, rotation

    def _swept_boxes(self, world: np.ndarray, time: float) -> np.ndarray:
        """Return the pixels (T, 4) in which each triangle can be seen by any row."""
        ends = row_times(np.array([0.0, 0.5, 1.0]), 1.0, self.shot.readout)
        boxes = np.array([_boxes((world - c) @ r, self.shot.lens) for c, r in zip(*self.shot.move.poses(time + ends))])
        empty = (boxes[..., 0] >= boxes[..., 1]) | (boxes[..., 2] >= boxes[..., 3])
        low, high = np.where(empty[..., None], 1 << 30, boxes).min(0), np.where(empty[..., None], 0, boxes).max(0)
        swept = np.stack([low[:, 0], high[:, 1], low[:, 2], high[:, 3]], 1)
        swept[empty.all(0)] = 0
        return swept

    def _nearest(self, frame: float) -> tuple[np.ndarray, np.ndarray]:
        """Return inverse depth and the number of the nearest triangle (H, W each) at mid-shutter, -1 where nothing is
        seen.
        """
        mesh, _ = mesh_at(self.shot.scene, frame)
        shape = (self.shot.lens.height, self.shot.lens.width)
        inverse, index = np.empty(shape), np.empty(shape, np.int64)
        grid = self.rays.astype(np.float32)
        for rows, rays, corners, boxes, _, _ in self._bands(mesh.corners, grid, frame, BAND_ROWS):
            visible_triangles(corners, rays, boxes, inverse[rows], index[rows])
        return inverse, index

    def depth(self, frame: float) -> np.ndarray:
        """Return depth along the view axis (H, W) in metres at mid-shutter; infinity where nothing is seen."""
        inverse, index = self._nearest(frame)
        with np.errstate(divide="ignore"):
            return np.where(index >= 0, 1.0 / inverse, np.inf)

    def actor_matte(self, frame: float, actor: int, without: int = 0) -> np.ndarray:
        """Return where one of the scene's actors is seen at mid-shutter, (H, W) bool.

        Parameters
        ----------
        frame : time. actor : number. without : triangles at the end of its mesh that are left out, as a thing carried.
        """
        scene = self.shot.scene
        ends = len(scene.static) + np.cumsum([0, *(len(moving(frame)) for moving in scene.actors)])
        _, index = self._nearest(frame)
        return (index >= ends[actor]) & (index < ends[actor + 1] - without)

    def picture(self, frame: int) -> tuple[np.ndarray, np.ndarray]:
        """Return the frame as 8-bit (H, W, 3) sRGB with grain, and the actors' matte (H, W) 8-bit."""
        linear, matte = self.linear(frame)
        return develop(linear, self.shot, frame), np.round(255 * matte).astype(np.uint8)


def develop(linear: np.ndarray, shot: Shot, frame: int) -> np.ndarray:
    """Expose, tone, add vignette and grain; return 8-bit sRGB (H, W, 3).

    Parameters
    ----------
    linear : (H, W, 3) light. shot : its film. frame : number, of which the grain is made.
    """
    height, width = linear.shape[:2]
    y, x = np.mgrid[0:height, 0:width]
    r2 = ((x - width / 2) ** 2 + (y - height / 2) ** 2) / (width / 2) ** 2
    light = linear * (shot.exposure(frame) * (1.0 - 0.13 * r2))[..., None]
    light = light * (1.0 + light / 2.2**2) / (1.0 + light)  # a soft shoulder (Reinhard et al. 2002)
    light = 0.18 * (light / 0.18) ** 1.35  # a print's contrast around middle grey
    code = np.where(light < 0.0031308, 12.92 * light, 1.055 * np.maximum(light, 1e-9) ** (1 / 2.4) - 0.055)
    rng = np.random.default_rng([shot.seed, frame, 7])
    luma = rng.standard_normal((height, width, 1), dtype=np.float32)
    chroma = rng.standard_normal((height, width, 3), dtype=np.float32)
    strength = shot.grain / 255.0 * (0.6 + 1.6 * np.sqrt(np.clip(code * (1.0 - code), 0.0, 0.25)))
    code = code + strength * (0.85 * luma + 0.5 * chroma)
    return np.clip(np.round(255.0 * code), 0, 255).astype(np.uint8)


def render_all(shot: Shot, threads: int = 2) -> Iterator[tuple[int, np.ndarray, np.ndarray]]:
    """Yield ``(frame, picture, matte)`` in frame order, rendered on `threads` threads."""
    renderer = Renderer(shot)
    shot.scene.baked()  # once, not in each thread
    with ThreadPoolExecutor(threads) as pool:
        for frame, (picture, matte) in zip(shot.frames, pool.map(renderer.picture, shot.frames)):
            yield int(frame), picture, matte


def surface_points(shot: Shot, count: int, every: int = 6, seed: int = 3) -> tuple[np.ndarray, np.ndarray]:
    """Return points on the still set for measuring slip, and where they can be seen.

    Parameters
    ----------
    count : points wanted. every : frames between those on which points are taken.

    Returns
    -------
    xyz : (N, 3) world metres. seen : (F, N) bool, in the picture and not covered, by frame.
    """
    renderer, path = Renderer(shot), truth(shot)
    rng = np.random.default_rng(seed)
    lens, chosen = shot.lens, []
    frames = list(range(0, len(shot.frames), every))
    for row in frames:
        depth = renderer.depth(shot.frames[row])
        n = int(np.ceil(1.6 * count / len(frames)))
        px = rng.uniform([8, 8], [lens.width - 8, lens.height - 8], (n, 2))
        z = depth[px[:, 1].astype(int), px[:, 0].astype(int)]
        near = z < 60.0
        centre = np.floor(px[near]) + 0.5
        rays = np.concatenate([lens.normalise(centre), np.ones((near.sum(), 1))], 1) * z[near, None]
        positions, turns = shot.move.poses(shot.frames[row] + row_times(centre[:, 1], lens.height, shot.readout))
        chosen.append(np.einsum("nij,nj->ni", turns, rays) + positions)
    xyz = np.concatenate(chosen)
    _, matte_free = _static_only(xyz, shot)
    xyz = xyz[matte_free][:count]
    return xyz, np.array([seen_on(renderer, path, row, xyz) for row in range(len(shot.frames))])


def _static_only(xyz: np.ndarray, shot: Shot) -> tuple[np.ndarray, np.ndarray]:
    """Return distances of points to the nearest actor triangle centre over the shot, and which stay clear of them."""
    if not shot.scene.actors:
        return np.full(len(xyz), np.inf), np.ones(len(xyz), bool)
    centres = [actor(t).corners.mean(1) for t in shot.frames[::4] for actor in shot.scene.actors]
    cloud = np.concatenate(centres)
    distance, _ = cKDTree(cloud).query(xyz)
    return distance, distance > 0.35


def seen_on(renderer: Renderer, path: CameraPath, row: int, xyz: np.ndarray) -> np.ndarray:
    """Return which points (P,) bool are in the picture of a row and not covered.

    Parameters
    ----------
    renderer : of the shot. path : its true camera. row : of it. xyz : (P, 3) world metres.
    """
    camera = path.to_camera(xyz, row)
    px = path.project_read(xyz, row)
    inside = (px > 2).all(1) & (px < [path.lens.width - 2, path.lens.height - 2]).all(1) & (camera[:, 2] > ARM_M)
    depth = renderer.depth(path.frames[row])
    cell = np.where(inside[:, None], px, 0).astype(int)
    return inside & (depth[cell[:, 1], cell[:, 0]] > camera[:, 2] * 0.99 - 0.02)
