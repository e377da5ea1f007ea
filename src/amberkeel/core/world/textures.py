"""Textures of what stands for the set: taken from the plate, and seen from its camera again."""

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import WorldError
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.world.projection import MEDIAN, Look, View, lent, looked_up
from amberkeel.core.world.seen import joined, points_seen, surface_seen, texture_points, texture_side
from amberkeel.core.world.solids import Solid

SPREAD = 2
"""Texels by which what is seen is carried on beyond its edge, so that no seam shows when it is drawn."""


def textures_of(
    path: CameraPath,
    solids: dict[str, Solid],
    wanted: list[str],
    rows: np.ndarray,
    look: Look,
    mode: str = MEDIAN,
    side: int | None = None,
    progress: Progress = silent,
) -> dict[str, np.ndarray]:
    """Return textures of solids from the plate by id, each (S, S, 4) float32: colours as the plate has them, and where
    it is known, 0 or 1; those that no frame sees are left out. Every frame is read once.

    Parameters
    ----------
    path : the camera in the world. solids : all that stand there, by id. wanted : ids of those that get a texture.
        rows : (K,) of the path that lend pictures. look : pictures by row. mode : one of `projection.MODES`. side :
        texels, or None for the plate's resolution. progress : called with the share done.

    Raises
    ------
    WorldError : no frame sees any of them.
    """
    cards = {}
    for name in wanted:
        size = side or texture_side(path, rows, solids[name])
        cards[name] = (size, *texture_points(solids[name], size))
    some = [points for _, points, _ in cards.values()]
    all_there = list(solids.values())
    frames = lent(path, rows, all_there, look, joined(some), mode, None, span(progress, 0.0, 0.6))
    out = {}
    for k, (name, (size, points, at)) in enumerate(cards.items()):
        part = span(progress, 0.6 + 0.4 * k / len(cards), 0.6 + 0.4 * (k + 1) / len(cards))
        colours = frames.colours(points, part)
        known = np.isfinite(colours).all(1)
        if known.any():
            texture = np.zeros((size, size, 4), np.float32)
            texture[at[known, 0], at[known, 1], :3], texture[at[known, 0], at[known, 1], 3] = colours[known], 1.0
            out[name] = spread(texture)
    if not out:
        raise WorldError("No chosen frame sees this.", "Choose other frames, or another proxy.")
    return out


def texture_of(
    path: CameraPath, solid: Solid, solids: list[Solid], rows: np.ndarray, look: Look, mode: str = MEDIAN,
    side: int | None = None,
) -> np.ndarray:  # fmt: skip
    """Return one solid's texture (S, S, 4) from the plate, as `textures_of` does.

    Parameters
    ----------
    path : the camera in the world. solid : whose. solids : all that stand there, itself among them. rows : (K,) of the
        path that lend pictures. look : pictures by row. mode : one of `projection.MODES`. side : texels, or None for
        the plate's resolution.

    Raises
    ------
    WorldError : no frame sees it.
    """
    named = {str(k): one for k, one in enumerate(solids)}
    own = next((name for name, one in named.items() if one is solid), "own")
    return textures_of(path, named | {own: solid}, [own], rows, look, mode, side)[own]


def spread(texture: np.ndarray, fixed: np.ndarray | None = None) -> np.ndarray:
    """Return a texture (S, S, 4) carried on beyond the edge of what is known of it, but for texels that are fixed.

    Parameters
    ----------
    texture : changed in place too. fixed : (S, S) bool, or None.
    """
    for _ in range(SPREAD):
        around = np.pad(texture, ((1, 1), (1, 1), (0, 0)))
        beside = [np.roll(around, by, (0, 1))[1:-1, 1:-1] for by in ((1, 0), (-1, 0), (0, 1), (0, -1))]
        count = sum(one[..., 3] for one in beside)
        mean = sum(one[..., :3] * one[..., 3:] for one in beside) / np.maximum(count, 1e-6)[..., None]
        fill = (texture[..., 3] == 0.0) & (count > 0.0)
        full = sum(one[..., 3] > 0.0 for one in beside)
        if fixed is not None:
            fill &= ~fixed
        texture[fill, :3], texture[fill, 3] = mean[fill], (count / np.maximum(full, 1))[fill]
    return texture


def seen_again(
    path: CameraPath, row: int, solids: list[Solid], textures: list[np.ndarray | None], scale: float = 1.0
) -> np.ndarray:
    """Return what a frame sees of textured solids, (H, W, 4) float32; alpha is 0 where there is nothing.

    Parameters
    ----------
    path : the camera in the world. row : of it. solids : what stands there. textures : (S, S, 4) of each, or None.
    scale : of the picture, 1 for the plate's size.
    """
    seen = surface_seen(path, row, solids, scale)
    out = np.zeros((*seen.face.shape, 4), np.float32)
    if not (seen.face >= 0).any():
        return out
    points, at = points_seen(path, row, solids, seen)
    face, start = seen.face[at[:, 0], at[:, 1]], 0
    for solid, texture in zip(solids, textures):
        own = (face >= start) & (face < start + len(solid.faces))
        if texture is not None and own.any():
            out[at[own, 0], at[own, 1]] = texels_at(solid, texture, face[own] - start, points.xyz[own])
        start += len(solid.faces)
    return out


def texels_at(solid: Solid, texture: np.ndarray, face: np.ndarray, xyz: np.ndarray) -> np.ndarray:
    """Return a solid's texture (N, 4) at points on it.

    Parameters
    ----------
    solid : with uv. texture : (S, T, 4). face : (N,) its triangles. xyz : (N, 3) points on them.
    """
    return _texels(texture, _uv_at(solid, face, xyz))


def _uv_at(solid: Solid, face: np.ndarray, xyz: np.ndarray) -> np.ndarray:
    """Return texture coordinates (N, 2) of points on triangles."""
    a, b, c = (solid.triangles[face, k] for k in range(3))
    normal = np.cross(b - a, c - a)
    area = np.maximum((normal * normal).sum(1), 1e-18)
    v = (np.cross(xyz - a, c - a) * normal).sum(1) / area
    w = (np.cross(b - a, xyz - a) * normal).sum(1) / area
    corners = solid.uv[solid.faces[face]]
    return (1.0 - v - w)[:, None] * corners[:, 0] + v[:, None] * corners[:, 1] + w[:, None] * corners[:, 2]


def _texels(texture: np.ndarray, uv: np.ndarray) -> np.ndarray:
    """Return a texture (S, T, 4) at coordinates (N, 2), between its texels."""
    height, width = texture.shape[:2]
    x = np.clip(uv[:, 0] * width - 0.5, 0.0, width - 1.001)
    y = np.clip((1.0 - uv[:, 1]) * height - 0.5, 0.0, height - 1.001)
    i, j = x.astype(int), y.astype(int)
    a, b = (x - i)[:, None].astype(np.float32), (y - j)[:, None].astype(np.float32)
    top = texture[j, i] * (1 - a) + texture[j, i + 1] * a
    return top * (1 - b) + (texture[j + 1, i] * (1 - a) + texture[j + 1, i + 1] * a) * b


def plate_from(path: CameraPath, row: int, picture: np.ndarray, to: int, solids: list[Solid]) -> np.ndarray:
    """Return one frame's picture projected onto solids and seen from another frame, (H, W, 4) float32; alpha is 0 where
    it shows nothing.

    Parameters
    ----------
    path : the camera in the world. row : that lends its picture (H, W, 3). to : from which it is seen. solids : what
        stands there.
    """
    seen = surface_seen(path, to, solids)
    out = np.zeros((*seen.face.shape, 4), np.float32)
    if not (seen.face >= 0).any():
        return out
    points, at = points_seen(path, to, solids, seen)
    view = View(row, np.asarray(picture, np.float32), surface_seen(path, row, solids).inverse)
    colour, _ = looked_up(path, view, points)
    known = np.isfinite(colour).all(1)
    out[at[known, 0], at[known, 1], :3], out[at[known, 0], at[known, 1], 3] = colour[known], 1.0
    return out
