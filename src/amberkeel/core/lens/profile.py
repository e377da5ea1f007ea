"""A lens profile: a lens with where each value came from and how sure it is, as it is kept and handed on (JSON)."""

import json
from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from amberkeel.core.errors import LensError
from amberkeel.core.foreign import guarded
from amberkeel.core.lens.chart import ChartFit
from amberkeel.core.lens.fit import LensFit
from amberkeel.core.lens.kernels import INDEX
from amberkeel.core.lens.model import Lens

FORMAT, VERSION = "amberkeel-lens", 1

ASPECT_SLACK = 0.005
"""Relative difference of picture aspects up to which a profile is rescaled to another size."""


@dataclass(frozen=True)
class LensProfile:
    """A lens and what is known of it.

    Attributes
    ----------
    name : for people. lens : the lens; where `focal_known` is False its focal length is a stand-in, and only the map of
        pixels to straightened pixels means anything.
    source : where the values came from (typed, metadata, lines, chart, solve). sensor_width_mm : of the filmed
        part, or None.
    focal_sigma_px : one sigma. sigma : one sigma of coefficients, no unit, and of "cx", "cy" in pixels.
    readout : share of the frame interval from a rolling shutter's first row to its last, or None where it is not known.
    notes : plain sentences that go with it. sources : by name, of values that came from elsewhere than the rest.
    """

    name: str
    lens: Lens
    source: str
    focal_known: bool = True
    focal_sigma_px: float = 0.0
    sensor_width_mm: float | None = None
    sigma: dict[str, float] = field(default_factory=dict)
    notes: list[str] = field(default_factory=list)
    sources: dict[str, str] = field(default_factory=dict)
    readout: float | None = None

    def rescaled(self, width: int, height: int) -> "LensProfile":
        """Return the profile for another size of the same picture; raises LensError when the shapes differ."""
        lens = self.lens
        if (lens.width, lens.height) == (width, height):
            return self
        sx, sy = width / lens.width, height / lens.height
        if abs(sx / sy - 1.0) > ASPECT_SLACK:
            raise LensError(
                f"The lens profile is for {lens.width}x{lens.height}, the plate is {width}x{height}: another shape.",
                "A crop must be undone first, or the lens measured again for this format.",
            )
        fx, fy = lens.focal_px
        cx, cy = lens.principal_px
        moved = replace(lens, width=width, height=height, focal_px=(fx * sx, fy * sy), principal_px=(cx * sx, cy * sy))
        sigma = {k: v * sx if k in ("cx", "cy") else v for k, v in self.sigma.items()}
        return replace(self, lens=moved, focal_sigma_px=self.focal_sigma_px * sx, sigma=sigma)

    def retyped(self, values: dict[str, tuple[float, float]], focal_known: bool) -> "LensProfile":
        """Return the profile with values typed by hand, each with one sigma: "focal" and "cx", "cy" in pixels,
        coefficients.

        Raises LensError for a lens that cannot be, a value that is none of this model's, or a sigma below 0.
        """
        lens, c, sigma, focal_sigma, sources = (
            self.lens,
            self.lens.coefficients,
            dict(self.sigma),
            self.focal_sigma_px,
            dict(self.sources),
        )
        names = typed_names(lens.model)
        for name, (value, spread) in values.items():
            if name not in names:
                raise LensError(f"A lens of the {lens.model} model has no {name}.", f"It has {', '.join(names)}.")
            if not (np.isfinite(value) and np.isfinite(spread) and spread >= 0.0):
                raise LensError(f"{name} cannot be {value:g} ±{spread:g}.", "Type a number, and a sigma of 0 or more.")
            sources[name] = "typed"
            if name == "focal":
                lens, focal_sigma = replace(lens, focal_px=(value, value * lens.focal_px[1] / lens.focal_px[0])), spread
                continue
            sigma[name] = spread
            if name in ("cx", "cy"):
                lens = replace(
                    lens, principal_px=(value, lens.principal_px[1]) if name == "cx" else (lens.principal_px[0], value)
                )
            else:
                c[INDEX[name]] = value
        lens = lens.with_coefficients(c)
        check_lens(lens)
        return replace(
            self,
            lens=lens,
            sigma=sigma,
            focal_sigma_px=focal_sigma if focal_known else 0.0,
            focal_known=focal_known,
            sources=sources,
        )


def typed_names(model: str) -> tuple[str, ...]:
    """Return the values of a lens model that can be typed."""
    own = {"radial": ("k1", "k2", "k3", "p1", "p2"), "division": ("division",)}.get(model, ())
    return ("focal", *own, "cx", "cy")


def profile_from_lines(
    fit: LensFit, name: str = "Lens from lines", sensor_width_mm: float | None = None
) -> LensProfile:
    """Return the profile that drawn lines tell.

    Parameters
    ----------
    fit : what the lines say. name : for people. sensor_width_mm : of the filmed part, mm, or None.
    """
    return LensProfile(
        name, fit.lens, "lines", fit.focal_known, fit.focal_sigma_px, sensor_width_mm, dict(fit.sigma), list(fit.notes)
    )


def profile_from_chart(
    fit: ChartFit, name: str = "Lens from a grid", sensor_width_mm: float | None = None
) -> LensProfile:
    """Return the profile that a filmed grid tells.

    Parameters
    ----------
    fit : what the grid says. name : for people. sensor_width_mm : of the filmed part, mm, or None.
    """
    sigma = {k: v for k, v in fit.sigma.items() if k != "focal_px"}
    return LensProfile(name, fit.lens, "chart", True, fit.sigma["focal_px"], sensor_width_mm, sigma, list(fit.notes))


def lens_document(lens: Lens) -> dict:
    """Return a lens, its picture's size apart, as a plain dictionary."""
    return {
        "model": lens.model,
        "focal_px": list(lens.focal_px),
        "principal_px": list(lens.principal_px),
        "radial": list(lens.radial),
        "tangential": list(lens.tangential),
        "division": lens.division,
        "two_axis": list(lens.two_axis),
        "turn": lens.turn,
    }


def read_lens(image: Mapping, row: Mapping) -> Lens:
    """Return the lens of such a dictionary and of its picture's; raises KeyError, TypeError or ValueError when it is
    none.
    """
    fx, fy = _numbers(row["focal_px"], 2)
    cx, cy = _numbers(row["principal_px"], 2)
    k1, k2, k3 = _numbers(row.get("radial", (0, 0, 0)), 3)
    p1, p2 = _numbers(row.get("tangential", (0, 0)), 2)
    return Lens(
        int(image["width"]),
        int(image["height"]),
        (fx, fy),
        (cx, cy),
        (k1, k2, k3),
        (p1, p2),
        float(image.get("pixel_aspect", 1.0)),
        float(row.get("division", 0.0)),
        _numbers(row.get("two_axis", (0,) * 10), 10),
        float(row.get("turn", 0.0)),
    )


def profile_document(profile: LensProfile) -> dict:
    """Return a profile as a plain dictionary ready for JSON, described in docs/lens-json.md."""
    lens = profile.lens
    return {
        "format": FORMAT,
        "version": VERSION,
        "name": profile.name,
        "source": profile.source,
        "image": {"width": lens.width, "height": lens.height, "pixel_aspect": lens.pixel_aspect},
        "sensor_width_mm": profile.sensor_width_mm,
        "readout": profile.readout,
        "focal_known": profile.focal_known,
        "lens": lens_document(lens),
        "sigma": {"focal_px": profile.focal_sigma_px, **profile.sigma},
        "notes": profile.notes,
        "sources": profile.sources,
    }


@guarded("This lens profile", LensError, help="Give a file that was handed on as one.")
def read_profile_file(data: bytes) -> LensProfile:
    """Return the profile of a file that somebody sent; raises LensError as `read_profile`, or where it is no JSON."""
    try:
        document = json.loads(data)
    except ValueError as error:
        raise LensError("This is no lens profile.", "Give a file that was handed on as one.") from error
    return read_profile(document)


def read_profile(document) -> LensProfile:
    """Return the profile of a dictionary; raises LensError when it is none, or no lens could be like that."""
    try:
        if document["format"] != FORMAT or int(document["version"]) != VERSION:
            raise LensError("This is no lens profile.", f"Its format is “{FORMAT}”, version {VERSION}.")
        lens = read_lens(document["image"], document["lens"])
        sigma = {str(k): float(v) for k, v in document.get("sigma", {}).items()}
        sensor = document.get("sensor_width_mm")
        profile = LensProfile(
            str(document.get("name", "Lens"))[:80],
            lens,
            str(document.get("source", "typed")),
            bool(document.get("focal_known", True)),
            sigma.pop("focal_px", 0.0),
            float(sensor) if sensor is not None else None,
            sigma,
            [str(n) for n in document.get("notes", [])],
            {str(k): str(v) for k, v in document.get("sources", {}).items()},
            None if document.get("readout") is None else float(document["readout"]),
        )
    except (KeyError, TypeError, ValueError, AttributeError) as error:
        raise LensError("The lens profile is not complete.", f"“{error}” is missing or no number.") from error
    check_lens(profile.lens)
    check_readout(profile.readout)
    return profile


def _numbers(values, count: int) -> tuple[float, ...]:
    out = tuple(float(v) for v in values)
    if len(out) != count or not np.isfinite(out).all():
        raise ValueError(f"{count} finite numbers")
    return out


def check_readout(readout: float | None) -> None:
    """Raise LensError for a readout that is no share of the frame interval."""
    if readout is not None and not 0.0 <= readout <= 1.0:
        raise LensError(f"A readout of {readout:g} is impossible.", "Give a share of the frame interval, 0 to 1.")


def check_lens(lens: Lens) -> None:
    """Raise LensError for an impossible lens: no size, no focal length, no pixel aspect, or a picture folded over."""
    if not (16 <= lens.width <= 65536 and 16 <= lens.height <= 65536):
        raise LensError(f"A picture of {lens.width}x{lens.height} is impossible.", "Give the plate's size in pixels.")
    if not 0.1 <= lens.pixel_aspect <= 10.0:
        raise LensError(
            f"A pixel aspect of {lens.pixel_aspect:g} is impossible.",
            "Give the width of a pixel over its height, as 1 or 2.",
        )
    if not all(0.02 * lens.width < f < 1000.0 * lens.width for f in lens.focal_px):
        raise LensError(
            f"A focal length of {lens.focal_px[0]:g} px is impossible.", "Give more than 2 % of the picture's width."
        )
    fold = lens.folds()
    if fold is not None:
        raise LensError(
            f"These coefficients fold the picture over at {100 * fold:.0f} % of its half diagonal.",
            "Turn them back towards 0.",
        )
