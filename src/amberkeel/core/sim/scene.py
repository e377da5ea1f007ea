"""A set ready to render: meshes, textures with their smaller levels, sun, sky light baked at the corners."""

from collections.abc import Callable
from dataclasses import dataclass
from functools import cache

import numpy as np

from amberkeel.core.sim.meshes import Mesh, join
from amberkeel.core.sim.raster import raise_heights

SHADOW_SIZE = 2048
SKY_SIZE = 384
SKY_DIRECTIONS = 28


@dataclass(frozen=True)
class Baked:
    """What of a set takes seconds to make, and only a picture of it needs.

    Attributes
    ----------
    texels, level_start, level_size : all textures and their halvings in one array (see `stack_textures`).
    ambient, sun : (T, 3) light at the static corners. `shadow`, `sun_from_world` : shadow map and its frame.
    """

    texels: np.ndarray
    level_start: np.ndarray
    level_size: np.ndarray
    ambient: np.ndarray
    sun: np.ndarray
    shadow: np.ndarray
    sun_from_world: np.ndarray


@dataclass(frozen=True)
class Scene:
    """Everything in front of the camera, in world coordinates (metres, Y up).

    Attributes
    ----------
    static : the set. `actors` : functions from frame time to a moving mesh.
    sun_direction : (3,) unit vector towards the sun; `sun_power`, `sky_power` light from each.
    haze : (3,) colour of the air; `haze_reach` share lost a metre.
    baked : gives textures and light, made at the first call.
    """

    static: Mesh
    actors: tuple[Callable[[float], Mesh], ...]
    sun_direction: np.ndarray
    sun_power: float
    sky_power: float
    haze: np.ndarray
    haze_reach: float
    baked: Callable[[], Baked]


def stack_textures(textures: list[np.ndarray]):
    """Return textures (each (S, S, 3), S a power of two) and their halvings as one flat array.

    Returns texels (N, 3) float32, level_start (K, L) and level_size (L,).
    """
    size = textures[0].shape[0]
    sizes = [size >> k for k in range(size.bit_length() - 1)]
    rows, starts, at = [], np.zeros((len(textures), len(sizes)), np.int64), 0
    for k, texture in enumerate(textures):
        level = np.asarray(texture, np.float32)
        for j in range(len(sizes)):
            starts[k, j] = at
            rows.append(level.reshape(-1, 3))
            at += level.shape[0] * level.shape[1]
            pairs = level[0::2] + level[1::2]
            level = np.float32(0.25) * (pairs[:, 0::2] + pairs[:, 1::2])
    return np.concatenate(rows), starts, np.array(sizes, np.int64)


def _light_frame(direction: np.ndarray, corners: np.ndarray, size: int) -> np.ndarray:
    """Return (3, 4) from world to map texels and height along `direction`, fitted around `corners`."""
    w = direction / np.linalg.norm(direction)
    u = np.cross([0.0, 0.0, 1.0] if abs(w[1]) > 0.9 else [0.0, 1.0, 0.0], w)
    u /= np.linalg.norm(u)
    basis = np.stack([u, np.cross(w, u), w])
    seen = corners.reshape(-1, 3) @ basis.T
    low, high = seen[:, :2].min(0), seen[:, :2].max(0)
    scale = (size - 4) / (high - low).max()
    frame = np.zeros((3, 4))
    frame[:2, :3] = basis[:2] * scale
    frame[:2, 3] = 2.0 - low * scale
    frame[2, :3] = basis[2]
    return frame


def _height_map(frame: np.ndarray, corners: np.ndarray, size: int) -> np.ndarray:
    points = corners @ frame[:, :3].T + frame[:, 3]
    heights = np.empty((size, size))
    raise_heights(points, size, heights)
    return heights


def sky_light(mesh: Mesh, near: np.ndarray) -> np.ndarray:
    """Return the open share of sky at each corner (T, 3), from height maps along directions over the dome.

    `near` (T,) marks the triangles that take part; others see the whole sky.
    """
    k = np.arange(SKY_DIRECTIONS) + 0.5
    y = 1.0 - 0.93 * k / SKY_DIRECTIONS
    turn = np.pi * (3.0 - np.sqrt(5.0)) * k
    r = np.sqrt(1.0 - y * y)
    dome = np.stack([r * np.cos(turn), y, r * np.sin(turn)], 1)
    corners, normals = mesh.corners[near], mesh.normals[near]
    total, weight = np.zeros(corners.shape[:2]), np.zeros(corners.shape[:2])
    for direction in dome:
        frame = _light_frame(direction, corners, SKY_SIZE)
        heights = _height_map(frame, corners, SKY_SIZE)
        at = corners @ frame[:, :3].T + frame[:, 3]
        cell = np.clip(at[..., :2].astype(int), 0, SKY_SIZE - 1)
        open_sky = heights[cell[..., 1], cell[..., 0]] <= at[..., 2] + 0.25
        gain = 0.25 + np.abs(normals @ direction)
        total += gain * open_sky
        weight += gain
    out = np.ones(mesh.corners.shape[:2])
    out[near] = total / weight
    return out


def surface_light(normals: np.ndarray, direction: np.ndarray, sky_power: float, sun_power: float):
    """Return unshadowed (ambient, sun) light at each corner, (T, 3) each, by normal; surfaces are two-sided.

    Parameters
    ----------
    normals : (T, 3, 3) of triangles' corners. direction : (3,) to the sun. sky_power, sun_power : of their light.
    """
    upward = 0.5 + 0.5 * np.abs(normals[..., 1])
    lambert = np.clip(np.abs(normals @ direction), 0.0, 1.0)
    return sky_power * upward, sun_power * lambert


def build_scene(
    static: Mesh,
    actors,
    textures: Callable[[], list[np.ndarray]],
    sun_direction,
    sun_power: float = 1.1,
    sky_power: float = 1.2,
    haze=(0.62, 0.66, 0.70),
    haze_reach: float = 0.010,
    near_m: float = 25.0,
) -> Scene:
    """Return the scene; its textures, light and shadow are made when a picture is first asked for.

    Parameters
    ----------
    static : mesh of the set. actors : meshes by time. textures : makes the pictures. sun_direction : (3,). sun_power,
        sky_power : of their light. haze : colour. haze_reach : share a metre. near_m : metres from the origin within
        which triangles cast and take shade.
    """
    direction = np.asarray(sun_direction, float)
    direction = direction / np.linalg.norm(direction)

    @cache
    def baked() -> Baked:
        near = (np.abs(static.corners).max(axis=(1, 2)) < near_m) & (static.glow == 0.0)
        ambient, sun = surface_light(static.normals, direction, sky_power, sun_power)
        ambient = ambient * (0.12 + 0.88 * sky_light(static, near) ** 1.3)
        frame = _light_frame(direction, static.corners[near], SHADOW_SIZE)
        shadow = _height_map(frame, static.corners[near], SHADOW_SIZE)
        texels, starts, sizes = stack_textures(textures())
        return Baked(texels, starts, sizes, ambient, sun, shadow, frame)

    return Scene(
        static, tuple(actors), direction, sun_power, sky_power, np.asarray(haze, float), haze_reach, baked
    )  # fmt: skip


def mesh_at(scene: Scene, time: float) -> tuple[Mesh, int]:
    """Return the whole mesh at a frame time, and the number of the first actor's first triangle."""
    moving = [actor(time) for actor in scene.actors]
    return join([scene.static, *moving]) if moving else scene.static, len(scene.static)


def light_on(scene: Scene, mesh: Mesh) -> tuple[np.ndarray, np.ndarray]:
    """Return the ambient and the sun's light (T, 3) at the corners of the whole mesh."""
    still, first = scene.baked(), len(scene.static)
    if len(mesh) == first:
        return still.ambient, still.sun
    moving = surface_light(mesh.normals[first:], scene.sun_direction, 0.75 * scene.sky_power, scene.sun_power)
    return np.concatenate([still.ambient, moving[0]]), np.concatenate([still.sun, moving[1]])
