"""Paintings and textures as they are kept: as PNG to be shown, and as EXR where they are linear light."""

from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np

from amberkeel.core.pictures.write import encode_png, write_picture
from amberkeel.core.world.paintings import flat, read_painting
from amberkeel.store.media import Media

EXR_BEGINS = b"\x76\x2f\x31\x01"
"""The first bytes of an EXR file."""


def painting_in(media: Media, kept: str, linear: bool) -> np.ndarray:
    """Return a kept painting (H, W, 4) float32, its colours as light or as code values."""
    return painting_of(media.get(kept), linear)


def painting_of(data: bytes, linear: bool) -> np.ndarray:
    """Return the painting (H, W, 4) float32 that a file holds, its colours as light or as code values.

    Raises
    ------
    KeelError : it is no picture.
    """
    with TemporaryDirectory() as folder:
        # The decoder that is tried first is that of the name.
        path = Path(folder) / ("painting.exr" if data.startswith(EXR_BEGINS) else "painting.png")
        path.write_bytes(data)
        return read_painting(path, linear)


def keep_texture(media: Media, texture: np.ndarray, linear: bool) -> dict[str, str]:
    """Keep a texture (S, S, 4); return where, as the fields of a thing: one to be shown, and its light where it is."""
    shown = media.put(encode_png(flat(texture, linear)))
    if not linear:
        return {"texture": shown, "light": ""}
    with TemporaryDirectory() as folder:
        path = Path(folder) / "texture.exr"
        write_picture(path, texture.astype(np.float32))
        return {"texture": shown, "light": media.put(path.read_bytes())}
