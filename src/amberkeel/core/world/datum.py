"""The datum: what fixes the scene's coordinates. Found from what is stated, on a solve's camera and points."""

from dataclasses import dataclass, field

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import WorldError
from amberkeel.core.geometry.rotations import nearest_rotation
from amberkeel.core.points import PointSet
from amberkeel.core.world.planes import Plane, fit_plane, off_px, on_plane, part_of
from amberkeel.core.world.scale import Scale, balance, tape_sigma
from amberkeel.core.world.statement import Direction, Distance, End, Hand, Spot, Statement, Track
from amberkeel.core.world.tied import spot_of

AXES = {"x": (0, 1.0), "-x": (0, -1.0), "y": (1, 1.0), "-y": (1, -1.0), "z": (2, 1.0), "-z": (2, -1.0)}
"""Which row of the rotation an axis is, and its sign."""

HEIGHT_SHARE = 0.01
"""One sigma of a camera's stated height where none is given, as a share of it: lenses have no mark."""


NO_DEPTH = "The points of this attempt have no depth: its camera only turns. Axis lines can level it."


@dataclass(frozen=True)
class Datum:
    """A similarity from the solve's coordinates to the world's: ``x_world = scale * rotation @ x + translation``."""

    scale: float
    rotation: np.ndarray
    translation: np.ndarray

    def apply(self, xyz: np.ndarray) -> np.ndarray:
        """Take points (..., 3) from the solve's coordinates to the world's."""
        return self.scale * xyz @ self.rotation.T + self.translation

    def back(self, xyz: np.ndarray) -> np.ndarray:
        """Take points (..., 3) from the world's coordinates to the solve's."""
        return (xyz - self.translation) @ self.rotation / self.scale

    def points(self, points: PointSet) -> PointSet:
        """Return points of the solve in the world."""
        return points.moved(self.scale, self.rotation, self.translation)

    def camera(self, path: CameraPath) -> CameraPath:
        """Return the camera path in the world."""
        return path.moved(self.scale, self.rotation, self.translation)

    def after(self, earlier: "Datum") -> "Datum":
        """Return what takes an earlier datum's world to this one's, for what stands in it to stay on the picture."""
        scale, rotation = self.scale / earlier.scale, self.rotation @ earlier.rotation.T
        return Datum(scale, rotation, self.translation - scale * rotation @ earlier.translation)


IDENTITY = Datum(1.0, np.eye(3), np.zeros(3))


@dataclass(frozen=True)
class Solved:
    """What a datum is found on: a solve's camera, its points (T, 3) by track, and their covariance (T, 3, 3) or None,
    all in the solve's coordinates. `names` are the tracks', for messages; `used` (T,) bool which points the solve
    stands on, all when None.
    """

    path: CameraPath
    ids: np.ndarray
    xyz: np.ndarray
    covariance: np.ndarray | None = None
    names: dict[int, str] = field(default_factory=dict)
    used: np.ndarray | None = None

    @property
    def standing(self) -> np.ndarray:
        """Rows (M,) of the points that the solve stands on."""
        known = np.isfinite(self.xyz).all(1)
        return np.nonzero(known if self.used is None else known & self.used)[0]

    def row(self, track: Track) -> int | None:
        """Return the row of a track meant by id or name, None where it has no point."""
        if isinstance(track, str):
            track = next((one for one, name in self.names.items() if name == track), -1)
        at = np.nonzero(self.ids == track)[0]
        return int(at[0]) if len(at) and np.isfinite(self.xyz[at[0]]).all() else None

    def sigma_along(self, rows: np.ndarray, way: np.ndarray) -> np.ndarray | None:
        """Return one sigma of points (M,) along a unit vector (3,), NaN where unknown; None without a covariance."""
        if self.covariance is None:
            return None
        with np.errstate(invalid="ignore"):
            return np.sqrt(np.einsum("a,nab,b->n", way, self.covariance[rows], way))

    def name(self, track: Track) -> str:
        """Return what a track is called in a message."""
        return track if isinstance(track, str) else self.names.get(track, f"number {track}")


@dataclass(frozen=True)
class GroundFit:
    """How the ground's points lie: `tracks` (M,), `off` (M,) in world units, up above it, `off_px` (M,) as the nearest
    camera sees it, `on` (M,) bool which count, and RMS of those in both.
    """

    tracks: list[int]
    off: np.ndarray
    off_px: np.ndarray
    on: np.ndarray
    rms: float
    rms_px: float


@dataclass(frozen=True)
class Found:
    """A datum with what can be said of it.

    Attributes
    ----------
    datum : the similarity. ground : how its points lie, or None. scale : what the distances say, or None, and `judged`
    which of them that are, by number in the statement. under : whether the camera is mostly under the ground. missing :
    sentences on what could not be found on this solve, and was left out. levelled, headed, placed, scaled : where up,
    heading, origin and scale come from, in words; "" where nothing says.
    """

    datum: Datum
    ground: GroundFit | None = None
    scale: Scale | None = None
    judged: tuple[int, ...] = ()
    under: bool = False
    missing: tuple[str, ...] = ()
    levelled: str = ""
    headed: str = ""
    placed: str = ""
    scaled: str = ""


def find_datum(solved: Solved, statement: Statement) -> Found:
    """Find the datum that is stated, leaving out what this solve has no points for.

    The ground becomes Y = 0, its normal towards the camera up. The first direction gives the heading, without one the
    drawn lines do, or else the first camera looks along -Z. The origin, where a ground is, lies on it. Distances give
    the scale; without any, a position that drawn lines tell does with a ground.

    Parameters
    ----------
    solved : camera and points. statement : what is stated.

    Raises
    ------
    WorldError : the points of a part lie where they determine nothing, or distances say nothing.
    """
    missing: list[str] = []
    path = solved.path
    if not len(solved.standing) and (statement.ground or statement.origin or statement.distances):
        missing.append(NO_DEPTH)
    rows = _rows(solved, statement.ground, 3, "The ground", missing)
    plane = None
    if rows is not None:
        plane = fit_plane(solved.xyz[rows], part_of(solved.covariance, rows)).towards(path.positions.mean(0))
    drawn = _drawn(path, statement.axes)
    rotation, levelled, headed, under = _rotation(solved, statement, plane, drawn, missing)
    up = rotation[1]
    if plane is not None and plane.normal @ up < 0.0:
        plane = Plane(plane.centre, -plane.normal, -plane.off, plane.on, plane.rms)
        under = True
    at = _stated_position(path, statement.axes)
    scale, judged = _scale(solved, statement.distances, plane, missing)
    factor, scaled = (scale.factor, "distances") if scale else (1.0, "")
    if scale is None and at is not None and plane is not None:
        factor, scaled = _scale_by_height(at, up, plane.centre), "lines"
    anchor, placed = _anchor(solved, statement, plane, rotation, at, factor, bool(scaled), missing)
    datum = _by_hand(Datum(factor, rotation, -factor * rotation @ anchor), statement.hand)
    if statement.hand:
        headed, placed = headed or "hand", placed or "hand"
    ground = _ground_fit(solved, rows, plane, datum) if rows is not None and plane is not None else None
    return Found(datum, ground, scale, judged, under, tuple(missing), levelled, headed, placed, scaled)


def _rows(solved: Solved, tracks: list, least: int, what: str, missing: list[str]) -> np.ndarray | None:
    """Return rows of tracks, None where too few have points; says which have none."""
    if not tracks:
        return None
    found = [solved.row(track) for track in tracks]
    lost = [solved.name(track) for track, row in zip(tracks, found) if row is None]
    rows = np.array([row for row in found if row is not None], int)
    if lost:
        lack = f"{what}: {_listed(lost)} {'has' if len(lost) == 1 else 'have'} no point in this attempt"
        missing.append(f"{lack}.{'' if len(rows) >= least else ' It is left out.'}")
    if len(rows) < least and not lost:
        raise WorldError(f"{what} needs {'three' if least == 3 else least} points.", "Select more tracks.")
    return rows if len(rows) >= least else None


def _listed(names: list[str], most: int = 4) -> str:
    more = len(names) - most
    return ", ".join(names[:most]) + (f" and {more} more" if more > 0 else "")


def _rotation(
    solved: Solved, statement: Statement, plane: Plane | None, drawn: np.ndarray | None, missing: list[str]
) -> tuple[np.ndarray, str, str, bool]:
    """Return the rotation to the world's axes, where level and heading come from, and whether up had to be turned."""
    path = solved.path
    known: list[tuple[str, np.ndarray]] = []
    levelled = headed = ""
    if plane is not None:
        known.append(("-y" if statement.flip else "y", plane.normal))
        levelled = "ground"
    for one in statement.directions:
        way = _way(solved, one, missing)
        if way is not None:
            known.append((one.axis, way))
            levelled, headed = ("direction", headed) if one.axis[-1] == "y" else (levelled, "direction")
    if drawn is not None:
        levelled, headed = levelled or "lines", headed or "lines"
    if not known:
        turned = np.eye(3) if drawn is None else drawn
        return (np.diag([1.0, -1.0, -1.0]) @ turned if statement.flip else turned), levelled, headed, False
    rotation = _along(known, drawn, path.world_from_camera[0])
    if plane is None and statement.flip:
        rotation = np.diag([1.0, -1.0, -1.0]) @ rotation
    # Without a ground up is judged by the camera: it is seldom carried upside down.
    under = plane is None and float(-path.world_from_camera[:, :, 1].mean(0) @ rotation[1]) < 0.0
    return rotation, levelled, headed, under


def _along(known: list[tuple[str, np.ndarray]], drawn: np.ndarray | None, first: np.ndarray) -> np.ndarray:
    """Return the rotation whose axes run along given directions, the first one exactly; what is left open is that of
    drawn lines, or level and along the first camera.

    Parameters
    ----------
    known : axes and unit vectors in the solve. drawn : (3, 3) or None. first : (3, 3) world_from_camera.
    """
    if drawn is not None:
        spare = [("y", drawn[1]), ("z", drawn[2]), ("x", drawn[0])]
    else:
        spare = [("y", -first[:, 1]), ("-z", first[:, 2]), ("x", first[:, 0])]
    rotation = np.zeros((3, 3))
    filled: list[int] = []
    for axis, way in [*known, *spare]:
        row, sign = AXES[axis]
        own = sign * way
        for other in filled:
            own = own - (own @ rotation[other]) * rotation[other]
        if row in filled or np.linalg.norm(own) < 1e-3:
            continue
        rotation[row] = own / np.linalg.norm(own)
        filled.append(row)
        if len(filled) == 2:
            break
    last = 3 - sum(filled)
    rotation[last] = np.cross(rotation[(last + 1) % 3], rotation[(last + 2) % 3])
    return rotation


def _way(solved: Solved, one: Direction, missing: list[str]) -> np.ndarray | None:
    """Return the unit vector (3,) from one point to another, None where one is missing."""
    rows = _rows(solved, one.tracks, 2, "The heading", missing)
    if rows is None:
        return None
    way = solved.xyz[rows[1]] - solved.xyz[rows[0]]
    long = float(np.linalg.norm(way))
    if long < 1e-9:
        raise WorldError("The two points of the heading are one and the same.", "Choose two points well apart.")
    return way / long


def _scale(
    solved: Solved, distances: list[Distance], plane: Plane | None, missing: list[str]
) -> tuple[Scale | None, tuple[int, ...]]:
    """Return what the distances that are placed say, and which of them served."""
    found = []
    for number, one in enumerate(distances):
        if not one.on or not one.placed:
            continue
        length = _length(solved, one, plane, missing)
        if length is not None:
            usual = tape_sigma(one.metres) if one.height_on is None else HEIGHT_SHARE * one.metres
            found.append((number, *length, one.metres, one.sigma or usual))
    if not found:
        return None, ()
    numbers, *values = zip(*found)
    return balance(*(np.array(v, float) for v in values)), tuple(numbers)


def _length(solved: Solved, one: Distance, plane: Plane | None, missing: list[str]) -> tuple[float, float] | None:
    """Return a distance in the solve's unit and its sigma there, None where its points are missing."""
    if one.tracks:
        rows = _rows(solved, one.tracks, 2, one.name or "A distance", missing)
        if rows is None:
            return None
        a, b = solved.xyz[rows]
        long = float(np.linalg.norm(b - a))
        if solved.covariance is None or long < 1e-9:
            return long, 0.0
        way = (b - a) / long
        both = float(np.nan_to_num(np.einsum("a,nab,b->", way, solved.covariance[rows], way)))
        return long, float(np.sqrt(max(both, 0.0)))
    if one.ends:
        return _between(*(_end(solved, end, one.name or "A side", missing) for end in one.ends))
    if plane is None:
        missing.append(f"{one.name or 'A distance'} is measured on the ground, and there is none.")
        return None
    if one.height_on is not None:
        at = solved.path.rows_of(np.array([one.height_on]))[0]
        if at < 0:
            missing.append(f"The camera's height on frame {one.height_on}: that frame is not solved.")
            return None
        return abs(float((solved.path.positions[at] - plane.centre) @ plane.normal)), 0.0
    ends = [_spot_on(solved.path, spot, plane, missing) for spot in one.spots]
    return None if ends[0] is None or ends[1] is None else (float(np.linalg.norm(ends[1] - ends[0])), 0.0)


def _end(solved: Solved, end: End, what: str, missing: list[str]) -> tuple[np.ndarray, np.ndarray] | None:
    """Return where a spot tied to points lies (3,) and its covariance (3, 3), None where a point of it is missing."""
    rows = _rows(solved, end.tracks, len(end.tracks), what, missing)
    if rows is None:
        return None
    return spot_of(np.array(end.weights), solved.xyz[rows], part_of(solved.covariance, rows))


def _between(a, b) -> tuple[float, float] | None:
    """Return how far two spots with their covariances lie apart and its sigma, None where one is None."""
    if a is None or b is None:
        return None
    way = b[0] - a[0]
    long = float(np.linalg.norm(way))
    along = way / max(long, 1e-12)
    return long, float(np.sqrt(max(along @ (a[1] + b[1]) @ along, 0.0)))


def _spot_on(path: CameraPath, spot: Spot, plane: Plane, missing: list[str]) -> np.ndarray | None:
    """Return where a spot of the picture lies on the ground, None where its frame is not solved."""
    row = int(path.rows_of(np.array([spot.frame]))[0])
    if row < 0:
        missing.append(f"A spot on frame {spot.frame}: that frame is not solved.")
        return None
    return on_plane(path, row, np.array(spot.xy), plane.centre, plane.normal)


def _anchor(solved, statement, plane, rotation, at, factor, scaled, missing) -> tuple[np.ndarray, str]:
    """Return the point (3,) of the solve that becomes the origin, and where that comes from."""
    path, anchor, placed = solved.path, None, ""
    rows = _rows(solved, statement.origin, 1, "The origin", missing)
    if rows is not None:
        anchor, placed = solved.xyz[rows].mean(0), "track" if len(rows) == 1 else "tracks"
    elif statement.spot is not None:
        base = plane or Plane(np.zeros(3), rotation[1], np.zeros(0), np.zeros(0, bool), 0.0)
        anchor = _spot_on(path, statement.spot, base, missing)
        placed = "spot" if anchor is not None else ""
    elif at is not None and (scaled or plane is not None):
        anchor, placed = at[0] - rotation.T @ at[1] / factor, "lines"
    if anchor is None:
        anchor = np.zeros(3) if plane is None else path.positions[0]
    if plane is not None:
        anchor = anchor - ((anchor - plane.centre) @ plane.normal) * plane.normal
    return anchor, placed


def _by_hand(datum: Datum, hand: Hand | None) -> Datum:
    """Return a datum turned, scaled and moved by hand in its world."""
    if hand is None:
        return datum
    turn = Rotation.from_euler("xyz", hand.turn, degrees=True).as_matrix()
    return Datum(
        hand.scale * datum.scale, turn @ datum.rotation,
        hand.scale * turn @ datum.translation + np.array(hand.move),
    )  # fmt: skip


def _ground_fit(solved: Solved, rows: np.ndarray, plane: Plane, datum: Datum) -> GroundFit:
    px = _nearest_px(solved.path, solved.xyz[rows], plane)
    on = plane.on
    rms_px = float(np.sqrt(np.nanmean(px[on] ** 2))) if np.isfinite(px[on]).any() else float("nan")
    return GroundFit(
        solved.ids[rows].tolist(), datum.scale * plane.off, px, on, datum.scale * plane.rms, rms_px
    )  # fmt: skip


def _nearest_px(path: CameraPath, xyz: np.ndarray, plane: Plane) -> np.ndarray:
    """Return how far points (M, 3) lie off a plane in pixels (M,), each as the nearest camera that sees it shows it."""
    out = np.full(len(xyz), np.nan)
    away = np.linalg.norm(xyz[:, None] - path.positions[None], axis=2)
    for row in range(len(path.frames)):
        away[~path.seen(xyz, row)[1], row] = np.inf
    best = away.argmin(1)
    for row in np.unique(best):
        own = (best == row) & np.isfinite(away[np.arange(len(xyz)), best])
        if own.any():
            out[own] = off_px(path, int(row), xyz[own], plane.centre, plane.normal)
    return out


def _drawn(path: CameraPath, axes: dict | None) -> np.ndarray | None:
    """Return the rotation from the solve's to the world's axes that agrees best with drawn lines; None where no frame
    of theirs is solved.
    """
    if not axes:
        return None
    rows = {int(frame): row for row, frame in enumerate(path.frames)}
    kept = {int(frame): np.array(rotation) for frame, rotation in axes.get("rotations", {}).items()}
    both = [rotation @ path.world_from_camera[rows[f]].T for f, rotation in kept.items() if f in rows]
    return nearest_rotation(np.sum(both, axis=0)) if both else None


def _stated_position(path: CameraPath, axes: dict | None) -> tuple[np.ndarray, np.ndarray] | None:
    """Return the solved camera's position and where lines say that it stands, metres, on the same frame; None without
    such.
    """
    place = (axes or {}).get("place")
    if not place:
        return None
    row = np.nonzero(path.frames == int(place["frame"]))[0]
    return (path.positions[row[0]], np.array(place["xyz"])) if len(row) else None


def _scale_by_height(at: tuple[np.ndarray, np.ndarray], up: np.ndarray, centre: np.ndarray) -> float:
    height = float((at[0] - centre) @ up)
    if height < 1e-9 or at[1][1] <= 0.0:
        raise WorldError(
            "The camera does not stand above the floor that the lines tell.",
            "Is the measured line on the ground? Clear the datum, or draw it anew.",
        )
    return float(at[1][1]) / height
