"""Between linear light and sRGB code values (IEC 61966-2-1), by OpenColorIO."""

from functools import cache

import numpy as np
import PyOpenColorIO as ocio


@cache
def _curve(encode: bool) -> ocio.Transform:
    """Return the transform from linear light to sRGB code values, or back."""
    return ocio.ExponentWithLinearTransform(
        gamma=[2.4, 2.4, 2.4, 1.0],
        offset=[0.055, 0.055, 0.055, 0.0],
        direction=ocio.TRANSFORM_DIR_INVERSE if encode else ocio.TRANSFORM_DIR_FORWARD,
    )


@cache
def _processor(transform: ocio.Transform) -> ocio.CPUProcessor:
    return ocio.Config.CreateRaw().getProcessor(transform).getOptimizedCPUProcessor(ocio.OPTIMIZATION_LOSSLESS)


def through(transform: ocio.Transform, values: np.ndarray) -> np.ndarray:
    """Return values of any shape, float32, after a transform that treats all three channels alike."""
    flat = np.ascontiguousarray(values, np.float32).reshape(-1)
    padded = np.zeros(-(-len(flat) // 3) * 3, np.float32)
    padded[: len(flat)] = flat
    _processor(transform).applyRGB(padded)
    return padded[: len(flat)].reshape(np.shape(values))


def code_of_light(light: np.ndarray) -> np.ndarray:
    """Return sRGB code values 0 to 1 of linear light, which is cut to 0 to 1; no number counts as 0."""
    return through(_curve(True), np.clip(np.nan_to_num(light), 0.0, 1.0))


@cache
def _table() -> np.ndarray:
    return through(_curve(False), np.arange(256) / 255.0)


def light_of_code(picture: np.ndarray) -> np.ndarray:
    """Return linear light, float32 0 to 1, of uint8 sRGB code values of any shape."""
    return _table()[picture]
