"""Playable proxies: display-sized pictures of a plate's frames."""

import cv2
import numpy as np


def proxy(picture: np.ndarray, width: int, pixel_aspect: float = 1.0) -> np.ndarray:
    """Return a picture (H, W, 3) at most `width` pixels wide, with square pixels."""
    height, across = picture.shape[:2]
    shown = across * max(pixel_aspect, 1.0)
    tall = height / min(pixel_aspect, 1.0)
    scale = min(1.0, width / shown)
    size = (int(round(shown * scale)), int(round(tall * scale)))
    return picture if size == (across, height) else cv2.resize(picture, size, interpolation=cv2.INTER_AREA)
