"""What pictures and videos say of the camera that took them."""

from dataclasses import dataclass
from pathlib import Path

import av
import OpenImageIO as oiio

from amberkeel.core.lens.sensor import width_from_equivalent
from amberkeel.core.plate.sequence import VIDEO_SUFFIXES


@dataclass(frozen=True)
class CameraFacts:
    """Facts found in a file; None where it has none. `source` says where: "picture" or "video"."""

    focal_mm: float | None = None
    equivalent_mm: float | None = None
    sensor_width_mm: float | None = None
    pixel_aspect: float | None = None
    source: str = ""

    @property
    def any(self) -> bool:
        """Whether anything was found."""
        return any((self.focal_mm, self.equivalent_mm, self.sensor_width_mm, self.pixel_aspect not in (None, 1.0)))


def camera_facts(path: Path) -> CameraFacts:
    """Return what a picture or video says of its camera; nothing is raised for a file that says nothing."""
    path = Path(path)
    return _of_video(path) if path.suffix.lower() in VIDEO_SUFFIXES else _of_picture(path)


def _of_picture(path: Path) -> CameraFacts:
    source = oiio.ImageInput.open(str(path))
    if source is None:
        oiio.geterror()
        return CameraFacts()
    spec = source.spec()
    source.close()

    def number(*names):
        values = (spec.get_float_attribute(name, 0.0) for name in names)
        return next((float(v) for v in values if 0.0 < v < 1e4), None)

    focal = number("Exif:FocalLength", "FocalLength")
    equivalent = number("Exif:FocalLengthIn35mmFilm")
    resolution, unit = number("Exif:FocalPlaneXResolution"), spec.get_int_attribute("Exif:FocalPlaneResolutionUnit", 2)
    width = {2: 25.4, 3: 10.0, 4: 1.0}.get(unit, 25.4) * spec.width / resolution if resolution else None
    if width is None and focal and equivalent:
        width = width_from_equivalent(focal, equivalent)
    return CameraFacts(focal, equivalent, width, number("PixelAspectRatio"), "picture")


def _of_video(path: Path) -> CameraFacts:
    try:
        with av.open(str(path)) as container:
            stream = container.streams.video[0]
            tags = {**container.metadata, **stream.metadata}
            aspect = stream.sample_aspect_ratio
    except (av.FFmpegError, IndexError, OSError):
        return CameraFacts()

    def number(*parts):
        for key, value in tags.items():
            name = key.lower().replace("_", "").replace(".", "").replace("-", "")
            if all(p in name for p in parts):
                digits = "".join(c for c in value.split("(")[0] if c.isdigit() or c == ".")
                if digits.strip("."):
                    return float(digits)
        return None

    equivalent = number("focallength", "35mm")
    focal = None if equivalent else number("focallength")
    return CameraFacts(focal, equivalent, None, float(aspect) if aspect else None, "video")
