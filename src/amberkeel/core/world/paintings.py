"""What was painted over a frame or onto a texture: read, laid onto what stands for the set, and written.

A painting is (H, W, 4) float32: colours as code values 0 to 255 or as linear light, alpha 0 to 1, not multiplied in.
"""

from pathlib import Path
from tempfile import NamedTemporaryFile

import cv2
import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import WorldError
from amberkeel.core.foreign import guarded
from amberkeel.core.pictures.read import open_picture, read_raw
from amberkeel.core.pictures.transfer import code_of_light, light_of_code
from amberkeel.core.world.projection import View, looked_up
from amberkeel.core.world.seen import surface_seen, texture_points, texture_side
from amberkeel.core.world.solids import Solid
from amberkeel.core.world.textures import spread

SAME_SHAPE = 0.01
"""By which share a painted frame's shape may differ from the plate's."""

MOST_SIDE, MOST_SENT = 8192, 4096 * 4096
"""Pixels along a painting's side, and of one that somebody sends."""


def read_painting(path: Path, linear: bool) -> np.ndarray:
    """Return a painted picture.

    Parameters
    ----------
    path : of the file, any format that is read; without alpha it is whole. linear : whether colours are wanted as
        linear light, or as sRGB code values; a float file holds light.

    Raises
    ------
    KeelError : it is no picture, or too large.
    """
    pixels = read_raw(path)
    if max(pixels.shape[:2]) > MOST_SIDE:
        raise WorldError(f"This picture is more than {MOST_SIDE} pixels a side.", "Make it smaller.")
    if pixels.ndim == 2 or pixels.shape[2] < 3:
        pixels = np.repeat(pixels.reshape(*pixels.shape[:2], -1)[..., :1], 3, 2)
    light = pixels.dtype == np.float32
    most = {np.dtype(np.uint8): 255.0, np.dtype(np.uint16): 65535.0}.get(pixels.dtype, 1.0)
    alpha = np.ones_like(pixels[..., :1], np.float32)
    if pixels.shape[2] > 3:
        alpha = np.clip(pixels[..., 3:4].astype(np.float32) / most, 0.0, 1.0)
    colours = pixels[..., :3].astype(np.float32)
    return np.concatenate([_as_wanted(colours if light else colours * (255.0 / most), light, linear), alpha], 2)


@guarded("This picture", WorldError)
def read_sent_painting(data: bytes, suffix: str, linear: bool) -> np.ndarray:
    """Return a painted picture that somebody sent, as `read_painting` does.

    Parameters
    ----------
    data : of the file. suffix : of its name, by which a decoder is tried first. linear : as there.

    Raises
    ------
    KeelError : it is no picture, or too large.
    """
    with NamedTemporaryFile(suffix=suffix) as file:
        file.write(data)
        file.flush()
        opened = open_picture(Path(file.name))
        opened.source.close()
        if opened.size[0] * opened.size[1] > MOST_SENT:
            raise WorldError(
                f"This picture is {opened.size[0]}x{opened.size[1]}.", "Send one of 4096x4096 at the most."
            )
        return read_painting(Path(file.name), linear)


def _as_wanted(colours: np.ndarray, light: bool, linear: bool) -> np.ndarray:
    """Return colours as light or as code values, from either."""
    if light == linear:
        return colours
    if light:
        return (255.0 * code_of_light(colours)).astype(np.float32)
    return light_of_code(np.clip(np.round(colours), 0, 255).astype(np.uint8)).astype(np.float32)


def flat(painting: np.ndarray, linear: bool = False) -> np.ndarray:
    """Return a painting as uint8 code values (H, W, 4), to be shown.

    Parameters
    ----------
    painting : (H, W, 4). linear : whether its colours are light.
    """
    colours = _as_wanted(np.maximum(painting[..., :3], 0.0), linear, False)
    return np.clip(np.round(np.concatenate([colours, 255.0 * painting[..., 3:]], 2)), 0, 255).astype(np.uint8)


def fitting(picture: np.ndarray, width: int, height: int) -> np.ndarray:
    """Return a painted frame (H, W, C) at the plate's size; one of the same shape is scaled.

    Parameters
    ----------
    picture : as painted. width, height : of the plate, pixels.

    Raises
    ------
    WorldError : it is of another shape.
    """
    high, wide = picture.shape[:2]
    if abs(wide * height / (high * width) - 1.0) > SAME_SHAPE:
        raise WorldError(
            f"The painted frame is {wide}x{high}, the plate {width}x{height}: the two differ in shape.",
            "Paint over a frame of the plate, whole.",
        )
    if (wide, high) == (width, height):
        return picture
    way = cv2.INTER_AREA if wide > width else cv2.INTER_CUBIC
    return cv2.resize(picture, (width, height), interpolation=way)


def painted_onto(
    path: CameraPath,
    row: int,
    solids: dict[str, Solid],
    wanted: list[str],
    painting: np.ndarray,
    before: dict[str, np.ndarray],
) -> dict[str, np.ndarray]:
    """Return textures (S, S, 4) by id of solids onto which a painted frame is laid, over what they had; those that the
    frame does not see are left out.

    Parameters
    ----------
    path : the camera in the world. row : of the painted frame. solids : all that stand there, by id. wanted : ids of
        those that are painted. painting : (H, W, 4) float32 at the plate's size, colours as the plate has them, alpha 0
        to 1. before : textures by id, alpha 0 to 1.

    Raises
    ------
    WorldError : the frame sees none of them where something is painted.
    """
    inverse = surface_seen(path, row, list(solids.values())).inverse
    alpha = np.ascontiguousarray(painting[..., 3:], np.float32)
    # Colours go with their alpha, so that soft edges stay clean (Porter and Duff 1984).
    laid = View(row, painting[..., :3] * alpha, inverse), View(row, np.repeat(alpha, 3, 2), inverse)
    out = {}
    for name in wanted:
        old = before.get(name)
        size = max(texture_side(path, np.array([row]), solids[name]), 0 if old is None else old.shape[0])
        points, at = texture_points(solids[name], size)
        colour, cover = (looked_up(path, view, points)[0] for view in laid)
        seen = np.isfinite(cover[:, 0]) & (np.nan_to_num(cover[:, 0]) > 0.0)
        if not seen.any():
            continue
        under = np.zeros((size, size, 4), np.float32) if old is None else _resized(old, size)
        y, x = at[seen].T
        a, b = cover[seen, :1], under[y, x, 3:] * (1.0 - cover[seen, :1])
        whole = a + b
        under[y, x, :3] = (colour[seen] + under[y, x, :3] * b) / np.maximum(whole, 1e-6)
        under[y, x, 3:] = whole
        own = np.zeros((size, size), bool)
        own[at[:, 0], at[:, 1]] = True
        out[name] = spread(under, own)
    if not out:
        raise WorldError("This frame sees none of the proxies where it is painted.", "Choose other proxies.")
    return out


def _resized(texture: np.ndarray, size: int) -> np.ndarray:
    if texture.shape[:2] == (size, size):
        return texture.astype(np.float32)
    return cv2.resize(texture.astype(np.float32), (size, size), interpolation=cv2.INTER_LINEAR)
