"""A recipient: for whom a package is made. Chosen once, used for every shot (docs/handoff.md)."""

import string
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, field_validator

from amberkeel.core.errors import HandoffError
from amberkeel.core.foreign.texts import read_json
from amberkeel.core.handoff.scene import safe_name
from amberkeel.core.handoff.writers import WRITERS
from amberkeel.core.handoff.writers.base import Convention
from amberkeel.core.units import METRES

TOKENS = ("shot", "what", "version", "production")
"""What a name may be made of."""

MOST_BYTES = 1 << 20


class Recipient(BaseModel):
    """The choices.

    Attributes
    ----------
    name : of the recipient. formats : keys of `WRITERS`. unit, scale : a delivered number is the length in `unit`,
        times `scale`. up : axis that is up. left_handed : X mirrored, where a format allows it. frame_offset : added to
        the plate's frame numbers. lens : "distorted", the plate as it was filmed, or "straightened", with `overscan`
        ("all", "crop", "same", or percent) and, if `centred`, the lens's axis in the picture's middle. kinds : of
        points that go along. groups : of tracks whose points go along, all where none is named. locator : how large a
        point is as a locator, metres; 0 for one cloud of points. things : whether proxies and probe objects go along.
        textures : whether with their pictures. plates : "none", "named" in the manifest, "copied", "linked" (no second
        copy on the disk), "written" anew as
        pictures (of a video too), or "straightened" ones written. images : their file format, the plate's own where
        empty. st_maps : whether both maps go along. mattes : whether a matte of all masks goes along for every frame.
        movies : for review, the "plate" as the camera fits it, and the plate with its "probes". report : forms of the
        report. naming : of files, with tokens.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: Annotated[str, Field(min_length=1, max_length=80)]
    formats: Annotated[list[str], Field(min_length=1, max_length=20)] = ["usda"]
    unit: str = "cm"
    scale: Annotated[float, Field(gt=0.0, le=1e6, allow_inf_nan=False)] = 1.0
    up: Literal["y", "z"] = "y"
    left_handed: bool = False
    frame_offset: Annotated[int, Field(ge=-1_000_000, le=1_000_000)] = 0
    lens: Literal["distorted", "straightened"] = "straightened"
    overscan: str = "all"
    centred: bool = False
    kinds: list[Literal["auto", "hand", "tag"]] = ["auto", "hand", "tag"]
    groups: Annotated[list[Annotated[str, Field(max_length=40)]], Field(max_length=60)] = []
    locator: Annotated[float, Field(ge=0.0, le=100.0, allow_inf_nan=False)] = 0.0
    things: bool = True
    textures: bool = True
    plates: Literal["none", "named", "copied", "linked", "written", "straightened"] = "named"
    images: Literal["", "png", "exr", "tif", "jpg", "dpx"] = ""
    st_maps: bool = False
    mattes: bool = False
    movies: list[Literal["plate", "probes"]] = []
    report: list[Literal["html", "pdf"]] = ["html", "pdf"]
    naming: Annotated[str, Field(min_length=1, max_length=200)] = "{shot}_{what}_v{version}"

    @field_validator("formats")
    @classmethod
    def _known(cls, formats: list[str]) -> list[str]:
        for one in formats:
            if one not in WRITERS:
                raise ValueError(f"there is no format “{one}”; choose {', '.join(WRITERS)}")
        return list(dict.fromkeys(formats))

    @field_validator("unit")
    @classmethod
    def _measured(cls, unit: str) -> str:
        if unit not in METRES:
            raise ValueError(f"“{unit[:20]}” is no unit of length; choose {', '.join(METRES)}")
        return unit

    @field_validator("overscan")
    @classmethod
    def _wide(cls, overscan: str) -> str:
        if overscan not in ("all", "crop", "same"):
            try:
                float(overscan)
            except ValueError:
                raise ValueError("overscan is all, crop, same, or a number of percent") from None
        return overscan

    @field_validator("naming")
    @classmethod
    def _named(cls, naming: str) -> str:
        try:
            parsed = [part for part in string.Formatter().parse(naming) if part[1] is not None]
        except ValueError:
            raise ValueError("a { or } of the naming has no other half") from None
        if any(spec or turn for _, _, spec, turn in parsed):
            raise ValueError("a token of the naming stands alone in its { }: no : and no ! in it")
        fields = {str(name) for _, name, _, _ in parsed}
        unknown = sorted(fields - set(TOKENS))
        if unknown:
            raise ValueError(f"there is no token {{{unknown[0]}}}; use {', '.join(f'{{{t}}}' for t in TOKENS)}")
        if not {"what", "version"} <= fields:
            raise ValueError("the naming needs {what} and {version}: files of one package, and packages, must differ")
        if "/" in naming or "\\" in naming:
            raise ValueError("the naming is of one file: no / in it")
        return naming

    @property
    def over(self) -> str | float:
        """Overscan as `canvas_for` takes it."""
        return self.overscan if self.overscan in ("all", "crop", "same") else float(self.overscan)

    def convention(self, fps: float) -> Convention:
        """Return how numbers leave for it, at a frame rate."""
        return Convention(METRES[self.unit] / self.scale, self.up, self.frame_offset, self.left_handed, fps)

    def file_name(self, shot: str, what: str, version: int, production: str = "") -> str:
        """Return the name of a file or folder, without ending.

        Parameters
        ----------
        shot, what : of which shot, and what is in it. version : from 1. production : its name.
        """
        words = {"shot": shot, "what": what, "version": f"{version:03d}", "production": production or "production"}
        return safe_name(self.naming.format(**words))


def read_recipient(given: object) -> Recipient:
    """Return a recipient from what was sent or kept.

    Raises
    ------
    HandoffError : a choice that cannot be; says which.
    """
    try:
        return Recipient.model_validate(given)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(part) for part in first["loc"]) or "the recipient"
        message = first["msg"].removeprefix("Value error, ")
        raise HandoffError(f"This recipient cannot be: {where}: {message}.") from error


def load_recipient(path: Path) -> Recipient:
    """Return the recipient of a file, or the ready-made one of that name; raises HandoffError where it is neither."""
    if str(path) in READY:
        return READY[str(path)]
    try:
        if path.stat().st_size > MOST_BYTES:
            raise ValueError
        return read_recipient(read_json(path))
    except (OSError, ValueError) as error:
        ready = ", ".join(READY)
        raise HandoffError(
            f"{path.name} is no recipient.", f"Give a file as docs/handoff.md has it, or one of: {ready}."
        ) from error


READY = {
    one.name: one
    for one in (
        Recipient(name="layout", formats=["usda"], unit="cm", st_maps=True),
        Recipient(name="modelling", formats=["glb", "obj"], unit="m", plates="none", centred=True, locator=0.05),
        Recipient(name="compositing", formats=["usdc", "txt"], unit="m", st_maps=True, plates="straightened"),
        Recipient(name="tables", formats=["csv", "txt"], unit="m", lens="distorted"),
        Recipient(name="stage", formats=["opentrackio"], unit="m", lens="distorted", plates="none"),
        Recipient(name="everything", formats=list(WRITERS), unit="m", st_maps=True),
    )
}
"""Recipients to begin with, by name."""
