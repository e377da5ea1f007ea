"""The files that a solve leaves as. A format is a writer in a file here and a line in `FORMATS`."""

import json
from collections.abc import Callable
from dataclasses import dataclass

from amberkeel.core.handoff.solve_file import SolveDocument
from amberkeel.core.handoff.tables import camera_csv, points_csv


@dataclass(frozen=True)
class Format:
    """A file that a solve can leave as.

    Attributes
    ----------
    name : of the file. holds : what is in it, for people.
    write : makes the file's text from a solve document and the sensor's width in millimetres.
    lacks : keys of `LACKS`, what of a camera it cannot say.
    """

    name: str
    holds: str
    write: Callable[[SolveDocument, float], str]
    lacks: tuple[str, ...] = ()

    def lacking(self, distorted: bool, readout: float) -> list[str]:
        """Return what the file cannot say of a camera, in sentences; none where the camera has nothing of the kind.

        Parameters
        ----------
        distorted : whether its lens bends the picture. readout : of its shutter, 0 for all rows at once.
        """
        has = {DISTORTION: distorted, READOUT: readout != 0.0}
        return [LACKS[what] for what in self.lacks if has[what]]


DISTORTION, READOUT = "distortion", "readout"

LACKS = {
    DISTORTION: "No distortion in it: its camera fits the straightened plate.",
    READOUT: "No rolling shutter in it: its camera is the middle row’s. Straighten the plate with rows upright.",
}
"""What a format may be unable to say of a camera, and the usual way out."""


def _usd(document: SolveDocument, sensor_width_mm: float) -> str:
    """Return USD; its library is loaded only here, since what just names the formats has no use for it."""
    from amberkeel.core.handoff.usd import usd_text

    return usd_text(document, sensor_width_mm)


FORMATS = {
    one.name: one
    for one in (
        Format("camera.usda", "USD: camera and points", _usd, (DISTORTION, READOUT)),
        Format("solve.json", "All, as described JSON", lambda document, _width: json.dumps(document, indent=1)),
        Format("points.csv", "Points as a table", lambda document, _width: points_csv(document)),
        Format("camera.csv", "Camera as a table", lambda document, _width: camera_csv(document), (DISTORTION, READOUT)),
    )
}
