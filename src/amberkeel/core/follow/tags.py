"""Fiducial tags: found and decoded by OpenCV, their corners measured by straight edges.

A corner is where two edges of the black square meet. Each edge is a line through the positions where brightness changes
along its normals, in linear light: blur is symmetric in light, not in code values. A plate that was softened in code
values shows tags a little too large, by a tenth or two of a pixel on each side; their centres stay where they are.
"""

from dataclasses import dataclass

import cv2
import numpy as np

from amberkeel.core.errors import FollowError
from amberkeel.core.geometry.pixels import from_opencv, to_opencv
from amberkeel.core.pictures.transfer import light_of_code
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent
from amberkeel.core.tracks import TAG, TrackSet, from_pieces

FAMILIES = {
    "36h11": cv2.aruco.DICT_APRILTAG_36h11,
    "36h10": cv2.aruco.DICT_APRILTAG_36h10,
    "25h9": cv2.aruco.DICT_APRILTAG_25h9,
    "16h5": cv2.aruco.DICT_APRILTAG_16h5,
}
CELLS = {"36h11": 8, "36h10": 8, "25h9": 7, "16h5": 6}
"""Cells along a side of the black square."""

SMALL_PX = 26.0
"""Side below which a tag is looked for in a picture of twice the size, and warned of."""

WORTH_CORNERS_PX = 40.0
"""Side from which corners are worth tracks of their own."""

LEAST_FRAMES = 3
"""Frames on which a tag must be seen to be believed."""

BLOWN = 250
"""Code value from which a tag's paper counts as blown out."""

EDGE_STEPS = 24
"""Normals along an edge on which it is measured."""

CORNER_FLOOR_PX, CENTRE_FLOOR_PX = 0.03, 0.02
"""Least noise that is believed: print and paper are not exact."""


@dataclass(frozen=True)
class Sighted:
    """A tag on one frame.

    Attributes
    ----------
    number : within its family. corners : (4, 2) pixels, clockwise from the tag's own top left. centre : (2,) pixels.
    sigma : (5,) one-sigma noise of the four corners and the centre, pixels. side : mean length of an edge, pixels.
    white : code value of its paper.
    """

    number: int
    corners: np.ndarray
    centre: np.ndarray
    sigma: np.ndarray
    side: float
    white: float


@dataclass(frozen=True)
class TagReport:
    """What is known of a tag over the plate: name, frames seen, sides in pixels (least, median, most), and warnings."""

    name: str
    frames: list[int]
    sides: tuple[float, float, float]
    warnings: list[str]


WINDOWS = 13, 33
"""Sides of the windows in which dark is told from light, pixels of the picture looked at: one for small tags, one for
large ones and for uneven light. Each costs a search of its own.
"""

LEAST_SIDE_PX = 9.0
"""Side below which nothing is looked at."""


def _detector(family: str, width: int = 0) -> cv2.aruco.ArucoDetector:
    """Return OpenCV's detector for a family, for pictures of a width; 0 for any."""
    if family not in FAMILIES:
        raise FollowError(f"There is no tag family “{family}”.", f"Choose {', '.join(FAMILIES)}.")
    settings = cv2.aruco.DetectorParameters()
    settings.cornerRefinementMethod = cv2.aruco.CORNER_REFINE_NONE
    low, high = WINDOWS
    settings.adaptiveThreshWinSizeMin, settings.adaptiveThreshWinSizeMax = low, high
    settings.adaptiveThreshWinSizeStep = high - low
    settings.minMarkerPerimeterRate = 4.0 * LEAST_SIDE_PX / width if width else 0.008
    settings.maxErroneousBitsInBorderRate = 0.15
    settings.errorCorrectionRate = 0.3
    settings.perspectiveRemovePixelPerCell = 6
    return cv2.aruco.ArucoDetector(cv2.aruco.getPredefinedDictionary(FAMILIES[family]), settings)


def find_tags(gray: np.ndarray, family: str = "36h11", detector=None) -> list[Sighted]:
    """Return the tags on a picture (H, W) uint8; raises FollowError for an unknown family.

    Parameters
    ----------
    gray : (H, W) uint8. family : a name of FAMILIES. detector : OpenCV's, or None to make one.
    """
    detector = detector or _detector(family, max(gray.shape))
    found: dict[int, np.ndarray] = {}
    for scale in (2.0, 1.0):
        # OpenCV counts pixel centres from 0, and so does its resize, by half a pixel of each picture.
        picture = cv2.resize(gray, None, fx=scale, fy=scale, interpolation=cv2.INTER_CUBIC) if scale != 1.0 else gray
        corners, numbers, _ = detector.detectMarkers(picture)
        for quad, number in zip(corners, [] if numbers is None else numbers.ravel()):
            found[int(number)] = from_opencv(quad.reshape(4, 2)) / scale
    light = light_of_code(gray)
    measured = (_measure(gray, light, number, quad) for number, quad in sorted(found.items()))
    return [m for m in measured if m is not None]


def _measure(gray: np.ndarray, light: np.ndarray, number: int, quad: np.ndarray) -> Sighted | None:
    """Refine a tag's corners by its edges; None where an edge cannot be measured."""
    side = float(np.linalg.norm(np.roll(quad, -1, 0) - quad, axis=1).mean())
    corners, lines = quad, []
    for _ in range(3):
        found = [_edge(light, corners[k], corners[(k + 1) % 4]) for k in range(4)]
        lines = [line for line in found if line is not None]
        if len(lines) < 4:
            return None
        corners = np.array([_meet(lines[k - 1][0], lines[k][0]) for k in range(4)])
    if np.linalg.norm(corners - quad, axis=1).max() > 0.12 * side + 1.5:
        return None
    edge = np.array([line[1] for line in lines])
    corner = np.sqrt(edge**2 + np.roll(edge, 1) ** 2)
    centre = _meet(_through(corners[0], corners[2]), _through(corners[1], corners[3]))
    sigma = np.append(np.hypot(corner, CORNER_FLOOR_PX), np.hypot(0.5 * np.sqrt((corner**2).mean()), CENTRE_FLOOR_PX))
    return Sighted(number, corners, centre, sigma, side, _paper(gray, corners))


def _edge(light: np.ndarray, a: np.ndarray, b: np.ndarray):
    """Return the line (3,) of an edge near the segment from a to b, normal pointing out, and its noise near the ends,
    pixels.
    """
    along = b - a
    length = np.linalg.norm(along)
    along = along / length
    out = np.array([along[1], -along[0]])
    reach = float(np.clip(length / 14.0, 1.5, 4.0))
    s = np.linspace(0.08, 0.92, EDGE_STEPS) * length
    t = np.arange(-reach, reach + 1e-6, 0.25)
    positions = to_opencv(a + s[:, None, None] * along + t[None, :, None] * out)
    profile = cv2.remap(light, positions[..., 0], positions[..., 1], cv2.INTER_LINEAR, borderMode=cv2.BORDER_REPLICATE)
    if np.median(profile[:, -3:].mean(1) - profile[:, :3].mean(1)) < 0.02:
        return None
    crossing = _by_area(t, profile)
    return _line(a + s[:, None] * along + crossing[:, None] * out, out)


def _by_area(t: np.ndarray, profile: np.ndarray) -> np.ndarray:
    """Return where each profile (S, T) rises, by the area under it: interpolation between pixels would shift a
    crossing.
    """
    low, high = profile[:, :3].mean(1), profile[:, -3:].mean(1)
    area = 0.25 * (profile[:, 1:-1].sum(1) + 0.5 * (profile[:, 0] + profile[:, -1]) - low * (len(t) - 1))
    return t[-1] - area / np.maximum(high - low, 0.01)


def _line(points: np.ndarray, out: np.ndarray):
    """Return a robust line (3,) through points (N, 2), NaN where missing, and its one-sigma noise at the ends; None if
    too few.
    """
    points = points[np.isfinite(points).all(1)]
    keep = np.ones(len(points), bool)
    for _ in range(3):
        if keep.sum() < 6:
            return None
        middle = points[keep].mean(0)
        _, _, axes = np.linalg.svd(points[keep] - middle)
        normal = axes[1] if axes[1] @ out > 0 else -axes[1]
        away = (points - middle) @ normal
        scale = max(0.02, 1.4826 * np.median(np.abs(away[keep])))
        keep = np.abs(away) < 3.0 * scale
    return np.append(normal, -normal @ middle), 2.0 * scale / np.sqrt(keep.sum())


def _through(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    return np.cross(np.append(a, 1.0), np.append(b, 1.0))


def _meet(a: np.ndarray, b: np.ndarray) -> np.ndarray:
    p = np.cross(a, b)
    return p[:2] / p[2]


def _paper(gray: np.ndarray, corners: np.ndarray) -> float:
    """Return the code value of the paper around a tag."""
    middle = corners.mean(0)
    ring = middle + 1.12 * (corners - middle)
    positions = np.concatenate(
        [ring[k] + np.linspace(0, 1, 12)[:, None] * (ring[(k + 1) % 4] - ring[k]) for k in range(4)]
    )
    x, y = np.clip(positions.astype(int), 0, [gray.shape[1] - 1, gray.shape[0] - 1]).T
    return float(np.median(gray[y, x]))


def follow_tags(
    plate: Plate, family: str = "36h11", corners: bool = False, progress: Progress = silent
) -> tuple[TrackSet, list[TagReport]]:
    """Find a family's tags on every frame of a plate.

    Parameters
    ----------
    corners : give corners tracks of their own as well, on frames where the tag is WORTH_CORNERS_PX or larger.

    Returns
    -------
    TrackSet of kind tag, named family-number as ``36h11-0007`` (corners ``36h11-0007.1`` to ``.4``, clockwise from the
    tag's own top left), and a report a tag.

    Raises
    ------
    FollowError : an unknown family.
    """
    detector = _detector(family, max(plate.width, plate.height))
    seen: dict[int, dict[int, Sighted]] = {}
    for k, frame in enumerate(plate.frames.tolist()):
        for tag in find_tags(plate.gray(frame), family, detector):
            seen.setdefault(tag.number, {})[frame] = tag
        progress((k + 1) / len(plate.frames), f"Looking for tags, frame {frame}")
    seen = {n: on for n, on in sorted(seen.items()) if len(on) >= min(LEAST_FRAMES, len(plate.frames))}
    names, pieces = [], []
    for number, on in seen.items():
        for name, piece in _pieces(f"{family}-{number:04d}", on, corners):
            names.append(name)
            pieces.append(piece)
    return from_pieces(names, pieces, [TAG] * len(names)), [_report(family, n, on) for n, on in seen.items()]


def _pieces(name: str, on: dict[int, Sighted], corners: bool):
    frames = np.array(list(on))
    yield (
        name,
        (
            frames,
            np.array([on[f].centre for f in frames]),
            np.array([on[f].sigma[4] for f in frames]),
            np.ones(len(frames)),
        ),
    )
    large = np.array([f for f in frames if on[f].side >= WORTH_CORNERS_PX])
    if corners and len(large) >= LEAST_FRAMES:
        for k in range(4):
            yield (
                f"{name}.{k + 1}",
                (
                    large,
                    np.array([on[f].corners[k] for f in large]),
                    np.array([on[f].sigma[k] for f in large]),
                    np.ones(len(large)),
                ),
            )


def _report(family: str, number: int, on: dict[int, Sighted]) -> TagReport:
    sides = np.array([tag.side for tag in on.values()])
    warnings = []
    if np.median(sides) < SMALL_PX:
        warnings.append(f"small: {np.median(sides):.0f} px a side, {SMALL_PX:.0f} px or more are read reliably")
    if np.median([tag.white for tag in on.values()]) >= BLOWN:
        warnings.append("blown out: its white is clipped, which shifts its edges")
    return TagReport(
        f"{family}-{number:04d}", list(on), (float(sides.min()), float(np.median(sides)), float(sides.max())), warnings
    )
