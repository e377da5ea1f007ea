"""From shapes and mattes to one picture a frame of where nothing may be followed."""

from collections.abc import Callable, Sequence

import cv2
import numpy as np

from amberkeel.core.geometry.pixels import CENTRE, from_opencv
from amberkeel.core.masks.shape import KEEP, Shape, outline_at

Matte = Callable[[int], np.ndarray | None]
"""From frame number to a bool picture (H, W), or None where the matte has nothing to say."""

SHIFT = 4
"""Bits of subpixel positions handed to the rasteriser."""


def fill(outline: np.ndarray, height: int, width: int) -> np.ndarray:
    """Return the inside of a closed outline (M, 2) as bool (H, W).

    Parameters
    ----------
    outline : (M, 2) pixels. height, width : of the picture, pixels.
    """
    picture = np.zeros((height, width), np.uint8)
    # OpenCV counts pixel centres from 0.
    corners = np.round((np.clip(outline, -16000.0, 16000.0) - CENTRE) * (1 << SHIFT)).astype(np.int32)
    cv2.fillPoly(picture, [corners.reshape(-1, 1, 2)], 1, shift=SHIFT)
    return picture.astype(bool)


def grow(mask: np.ndarray, pixels: float) -> np.ndarray:
    """Return a bool mask (H, W) widened by `pixels`, or narrowed where it is negative."""
    if abs(pixels) < 0.5 or not mask.any():
        return mask
    outside = (~mask if pixels > 0 else mask).astype(np.uint8)
    distance = cv2.distanceTransform(outside, cv2.DIST_L2, 5)
    return distance <= pixels if pixels > 0 else distance > -pixels


def shape_mask(shape: Shape, frame: int, height: int, width: int) -> np.ndarray:
    """Return a shape with its margin at a frame as bool (H, W), purpose aside.

    Parameters
    ----------
    shape : with its keys. frame : number. height, width : of the picture, pixels.
    """
    return grow(fill(outline_at(shape, frame), height, width), shape.margin)


def combine(shapes: Sequence[Shape], mattes: Sequence[Matte], height: int, width: int) -> Callable[[int], np.ndarray]:
    """Return a function from frame to bool (H, W): True where features must stay away.

    Everything inside a shape to ignore or white in a matte is masked; where shapes to keep live, so is all outside
    them.

    Parameters
    ----------
    shapes : with their keys. mattes : from frame to (H, W) bool or None, each. height, width : of the picture,
        pixels.
    """

    def masked(frame: int) -> np.ndarray:
        out = np.zeros((height, width), bool)
        kept = None
        for shape in shapes:
            if not shape.alive(frame):
                continue
            inside = shape_mask(shape, frame, height, width)
            if shape.purpose == KEEP:
                kept = inside if kept is None else kept | inside
            else:
                out |= inside
        for matte in mattes:
            picture = matte(frame)
            if picture is not None:
                out |= picture
        return out if kept is None else out | ~kept

    return masked


def covered(masked: np.ndarray, xy: np.ndarray, margin: int = 0) -> np.ndarray:
    """Tell which positions (N, 2) have a masked pixel within `margin` pixels of them, (N,) bool.

    Parameters
    ----------
    masked : (H, W) bool. xy : (N, 2) pixels. margin : pixels.
    """
    height, width = masked.shape
    out = np.zeros(len(xy), bool)
    for dx in (-margin, 0, margin) if margin else (0,):
        for dy in (-margin, 0, margin) if margin else (0,):
            x = np.clip(xy[:, 0] + dx, 0, width - 1).astype(int)
            y = np.clip(xy[:, 1] + dy, 0, height - 1).astype(int)
            out |= masked[y, x]
    return out


def contour(mask: np.ndarray) -> np.ndarray:
    """Return the outer outline (M, 2) of a mask's largest part, in pixels."""
    contours, _ = cv2.findContours(mask.astype(np.uint8), cv2.RETR_EXTERNAL, cv2.CHAIN_APPROX_NONE)
    return from_opencv(max(contours, key=cv2.contourArea)[:, 0])
