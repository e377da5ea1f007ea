"""How code values stand for light, and what of it is shown and followed: sRGB code values of 8 bits.

Logarithmic and high dynamic range pictures are flat or dark when their codes are taken as they are; linear light spends
nearly all codes on highlights. All are brought to one display encoding, in which equal steps look about equal, so that
grain and contrast are alike everywhere in the picture.
"""

from collections.abc import Callable
from functools import cache

import numpy as np
import PyOpenColorIO as ocio

from amberkeel.core.errors import PlateError
from amberkeel.core.pictures.transfer import code_of_light, through

DISPLAY, LINEAR, FILM_LOG, PQ, HLG = "display", "linear", "film log", "pq", "hlg"

ENCODINGS = {
    DISPLAY: "display code values (sRGB, Rec. 709)",
    LINEAR: "linear light",
    FILM_LOG: "logarithmic (printing density)",
    PQ: "HDR, perceptual quantiser (SMPTE ST 2084)",
    HLG: "HDR, hybrid log-gamma (BT.2100)",
}
"""Encodings by name, with what they are called on a page."""

_WHITE_CODE, _BLACK_CODE, _DENSITY_STEP, _GAMMA = 685.0, 95.0, 0.002, 0.6
"""Reference codes of 1023, density a code, and gamma of the negative: SMPTE 268M's printing density."""

_REFERENCE_WHITE = {PQ: 2.03, HLG: 0.795}
"""What OpenColorIO gives for reference white: 203 cd/m² in units of 100, and the signal 0.75 (BT.2408)."""

_HIGHEST = {PQ: 1000.0 / 203.0, HLG: 3.0 / 0.795}
"""Light that is shown as white, in units of reference white."""


def known_encoding(name: str) -> str:
    """Return an encoding's name, empty for what the file says; raises PlateError for an unknown one."""
    if name and name not in ENCODINGS:
        raise PlateError(f"There is no encoding “{name}”.", "Choose one of: " + ", ".join(ENCODINGS) + ".")
    return name


def _film_light(codes: np.ndarray) -> np.ndarray:
    """Return light of printing density codes 0 to 1, reference black 0 and reference white 1."""

    def exposure(code):
        return 10.0 ** ((code - _WHITE_CODE) * _DENSITY_STEP / _GAMMA)

    black = exposure(_BLACK_CODE)
    return (exposure(codes * 1023.0) - black) / (1.0 - black)


def _high_range(name: str, curve: str) -> Callable[[np.ndarray], np.ndarray]:
    def light(codes: np.ndarray) -> np.ndarray:
        """Return light with its highlights rolled off (Reinhard et al. 2002, equation 4)."""
        x = through(ocio.BuiltinTransform(curve), codes) / _REFERENCE_WHITE[name]
        return x * (1.0 + x / _HIGHEST[name] ** 2) / (1.0 + x)

    return light


_LIGHT: dict[str, Callable[[np.ndarray], np.ndarray]] = {
    LINEAR: lambda codes: codes,
    FILM_LOG: _film_light,
    PQ: _high_range(PQ, "CURVE - ST-2084_to_LINEAR"),
    HLG: _high_range(HLG, "CURVE - HLG-OETF-INVERSE"),
}


@cache
def _table(name: str, codes: int) -> np.ndarray:
    """Return what is displayed (codes,) uint8 of every code value of an integer file."""
    return _shown(np.arange(codes, dtype=np.float32) / (codes - 1), name)


@cache
def _display_of_halves() -> np.ndarray:
    """Return what is displayed (65536,) uint8 of every half float of linear light, by its bits."""
    return _shown(np.arange(2**16, dtype=np.uint16).view(np.float16).astype(np.float32), LINEAR)


def _shown(codes: np.ndarray, name: str) -> np.ndarray:
    values = np.nan_to_num(codes)
    values = np.clip(values, 0.0, 1.0) if name == DISPLAY else code_of_light(_LIGHT[name](values))
    return np.round(255.0 * values).astype(np.uint8)


def displayed(pixels: np.ndarray, name: str) -> np.ndarray:
    """Return pixels of any shape as sRGB code values, uint8.

    Parameters
    ----------
    pixels : uint8 or uint16 code values, or float code values of which 1 is white. name : their encoding.
    """
    if pixels.dtype == np.float16 and name == LINEAR:
        return _display_of_halves()[np.ascontiguousarray(pixels).view(np.uint16)]
    if pixels.dtype == np.uint8 and name == DISPLAY:
        return np.ascontiguousarray(pixels)
    if np.issubdtype(pixels.dtype, np.integer):
        return _table(name, np.iinfo(pixels.dtype).max + 1)[pixels]
    return _shown(pixels.astype(np.float32), name)
