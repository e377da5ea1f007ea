"""The plate projected onto what stands for the set, and seen from elsewhere: depth-tested, blended, or its median.

Points of surfaces are looked up in the frames that see them (view-dependent weights after Debevec et al. 1996).
"""

from collections.abc import Callable
from dataclasses import dataclass, replace
from functools import cached_property

import cv2
import numpy as np
from numba import njit, prange

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import WorldError
from amberkeel.core.lens.kernels import distort_one
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.world.seen import Points, surface_seen
from amberkeel.core.world.solids import Solid

OCCLUDED = 0.012
"""By how much nearer something must be to hide a point, as a share of its depth."""

RIM_PX = 1.5
"""Rim of the picture from which nothing is taken."""

GRAZING = 0.05
"""Cosine of the view below which a surface is seen on its edge."""

ONE, BLEND, MEDIAN = "one", "blend", "median"
MODES = ONE, BLEND, MEDIAN

MOST_VIEWS = 48
"""Frames that a blend or median is taken over, evenly taken from those asked for."""

ALIKE = 60_000
"""Points by which the exposures of frames are compared."""

LEAST_ALIKE = 200


@dataclass(frozen=True)
class View:
    """A frame that lends its picture: `picture` (H, W, 3) as float32, its row, and `inverse` (H, W), one over the depth
    of the nearest surface, 0 for none.
    """

    row: int
    picture: np.ndarray
    inverse: np.ndarray

    @cached_property
    def levels(self) -> tuple[np.ndarray, ...]:
        """The picture and its halvings, for points that lie further apart than its pixels."""
        return _halved(self.picture)


def looked_up(path: CameraPath, view: View, points: Points) -> tuple[np.ndarray, np.ndarray]:
    """Return the colours (N, 3) that a view has of points, NaN where it does not see them, and how well it sees each,
    (N,): the cosine of the view over the depth.

    Parameters
    ----------
    path : the camera in the world. view : a frame. points : on surfaces.
    """
    lens, count = path.lens_at(view.row), len(points.xyz)
    colour, weight = np.full((count, 3), np.nan, np.float32), np.zeros(count, np.float32)
    frame = np.concatenate([path.world_from_camera[view.row].ravel(), path.positions[view.row]])
    bent = np.array([*lens.focal_px, *lens.principal_px])
    given = points.xyz, points.normal, points.apart, frame, bent, lens.coefficients
    _look_up(*given, view.levels, view.inverse, colour, weight)
    return colour, weight


LEVELS = 4
"""How many of them."""


def _halved(picture: np.ndarray) -> tuple[np.ndarray, ...]:
    """Return a picture and its halvings, each the mean of four pixels."""
    out = [np.ascontiguousarray(picture, np.float32)]
    for _ in range(LEVELS - 1):
        last = out[-1]
        even = last[: last.shape[0] // 2 * 2, : last.shape[1] // 2 * 2]
        if min(even.shape[:2]) < 8:
            out.append(last)
            continue
        out.append(np.ascontiguousarray(0.25 * (even[::2, ::2] + even[1::2, ::2] + even[::2, 1::2] + even[1::2, 1::2])))
    return tuple(out)


@njit(cache=True, nogil=True)
def _at(picture, x, y, c):
    """Return a channel of a picture (H, W, 3) at a position; it is repeated beyond its edge."""
    height, width = picture.shape[0], picture.shape[1]
    u, v = min(max(x - 0.5, 0.0), width - 1.001), min(max(y - 0.5, 0.0), height - 1.001)
    i, j = int(u), int(v)
    a, b = u - i, v - j
    top = picture[j, i, c] * (1 - a) + picture[j, i + 1, c] * a
    below = picture[j + 1, i, c] * (1 - a) + picture[j + 1, i + 1, c] * a
    return top * (1 - b) + below * b


@njit(cache=True, nogil=True, parallel=True)
def _look_up(xyz, normal, spacing, frame, bent, coefficients, levels, inverse, colour, weight):
    """Fill colours (N, 3) and weights (N,) of points (N, 3) as a picture (H, W, 3) with its halvings shows them."""
    height, width = levels[0].shape[0], levels[0].shape[1]
    for n in prange(len(xyz)):
        x, y, z = xyz[n, 0] - frame[9], xyz[n, 1] - frame[10], xyz[n, 2] - frame[11]
        u = frame[0] * x + frame[3] * y + frame[6] * z
        v = frame[1] * x + frame[4] * y + frame[7] * z
        depth = frame[2] * x + frame[5] * y + frame[8] * z
        if depth <= 1e-9:
            continue
        long = np.sqrt(x * x + y * y + z * z)
        facing = abs(normal[n, 0] * x + normal[n, 1] * y + normal[n, 2] * z) / long
        if facing < GRAZING:
            continue
        p, q = distort_one(coefficients, u / depth, v / depth)
        px, py = bent[0] * p + bent[2], bent[1] * q + bent[3]
        if not (RIM_PX < px < width - RIM_PX and RIM_PX < py < height - RIM_PX):
            continue
        i, j = int(px - 0.5), int(py - 0.5)
        # Seen where any of the four pixels about it shows no nearer surface.
        hidden = True
        for b in range(2):
            for a in range(2):
                hidden &= inverse[j + b, i + a] * depth > 1.0 + OCCLUDED
        if hidden:
            continue
        # Points further apart than pixels are looked up in halvings, or they would alias.
        wide = np.log2(max(spacing[n] * bent[0] / depth, 1.0))
        low = min(int(wide), len(levels) - 1)
        high, share = min(low + 1, len(levels) - 1), wide - low
        first, second = 0.5**low, 0.5**high
        for c in range(3):
            near = _at(levels[low], px * first, py * first, c)
            if share > 0.01 and high > low:
                near = (1.0 - share) * near + share * _at(levels[high], px * second, py * second, c)
            colour[n, c] = near
        weight[n] = facing / depth


@njit(cache=True, nogil=True, parallel=True)
def _medians(colours, out):
    """Fill the medians (N, 3) over views (K, N, 3) of those that are numbers; NaN for none."""
    count = colours.shape[0]
    for n in prange(colours.shape[1]):
        held = np.empty(count, np.float32)
        for c in range(3):
            used = 0
            for k in range(count):
                value = colours[k, n, c]
                if value == value:
                    at = used
                    while at > 0 and held[at - 1] > value:
                        held[at] = held[at - 1]
                        at -= 1
                    held[at] = value
                    used += 1
            if used == 0:
                out[n, c] = np.nan
            elif used % 2:
                out[n, c] = held[used // 2]
            else:
                out[n, c] = 0.5 * (held[used // 2 - 1] + held[used // 2])


@dataclass(frozen=True)
class Light:
    """How frames differ in light: `gain` by row, and how the picture falls off towards its corners, a share at the
    corner's distance from the middle.
    """

    gain: dict[int, float]
    falloff: float

    def undone(self, view: View) -> View:
        """Return a view at the light of the reference, without its falloff."""
        height, width = view.picture.shape[:2]
        y, x = np.mgrid[0:height, 0:width].astype(np.float32)
        gain = self.gain.get(view.row, 1.0) / (1.0 - self.falloff * _radius2(x + 0.5, y + 0.5, width, height))
        return replace(view, picture=(view.picture * gain[..., None]).astype(np.float32))


def _radius2(x, y, width: int, height: int):
    """Return the square of the distance from the picture's middle, 1 at its corner."""
    return ((x - width / 2) ** 2 + (y - height / 2) ** 2) / (width**2 + height**2) * 4.0


def lights(path: CameraPath, views: list[View], points: Points, reference: View, seed: int = 0) -> Light:
    """Return how the light of views differs from that of a reference, by the points that both see: a gain each, and one
    falloff for all, robust against what covers the points on some.

    Parameters
    ----------
    path : the camera in the world. views : frames. points : on surfaces. reference : the frame whose light is kept.
    seed : of the points that are compared.
    """
    rng = np.random.default_rng(seed)
    chosen = rng.choice(len(points.xyz), min(ALIKE, len(points.xyz)), replace=False)
    some = Points(points.xyz[chosen], points.normal[chosen], points.apart[chosen])
    height, width = reference.picture.shape[:2]
    base, _ = looked_up(path, reference, some)
    at = path.project(some.xyz, reference.row)
    own = _radius2(at[:, 0], at[:, 1], width, height)
    rows, ratios, spreads = [], [], []
    for view in views:
        colour, _ = looked_up(path, view, some)
        luma, other = base.mean(1), colour.mean(1)
        with np.errstate(invalid="ignore", divide="ignore"):
            good = (luma > 0.02 * np.nanmax(base)) & (other > 0.02 * np.nanmax(base))
        if good.sum() < LEAST_ALIKE:
            continue
        apart = np.log(luma[good] / other[good])
        at = path.project(some.xyz[good], view.row)
        spread = _radius2(at[:, 0], at[:, 1], width, height) - own[good]
        near = np.abs(apart - np.median(apart)) < 0.25
        rows.append(view.row)
        ratios.append(apart[near])
        spreads.append(spread[near])
    if not rows:
        return Light({}, 0.0)
    # log(1 - f r²) is about -f r²: what a view lost more than the reference is the falloff times their spread.
    top = sum(float(((s - np.median(s)) * (r - np.median(r))).sum()) for s, r in zip(spreads, ratios))
    below = sum(float(((s - np.median(s)) ** 2).sum()) for s in spreads)
    falloff = float(np.clip(top / below if below > 1e-6 else 0.0, 0.0, 0.6))
    gains = {row: float(np.exp(np.median(r - falloff * s))) for row, r, s in zip(rows, ratios, spreads)}
    return Light(gains, falloff)


Look = Callable[[int], np.ndarray]
"""From a row of the path to its picture (H, W, 3), any numbers."""


def chosen_rows(rows: np.ndarray) -> np.ndarray:
    """Return the rows that serve of those asked for: at most `MOST_VIEWS`, evenly taken."""
    if len(rows) <= MOST_VIEWS:
        return rows
    return rows[np.unique(np.linspace(0, len(rows) - 1, MOST_VIEWS).astype(int))]


CHUNK = 400_000
"""Points that are looked up in all frames at a time."""


def sharpness_of(picture: np.ndarray) -> float:
    """Return how sharp a picture (H, W, 3) is: how much its finest octave differs, over what the next one does.

    A frame blurred by motion loses the finest first; what the picture shows counts for both alike.
    """
    luma = np.nan_to_num(picture.mean(2)).astype(np.float32)
    fine = luma - cv2.GaussianBlur(luma, (0, 0), 1.0)
    coarse = cv2.GaussianBlur(luma, (0, 0), 1.0) - cv2.GaussianBlur(luma, (0, 0), 2.0)
    return float(np.abs(fine).mean() / max(float(np.abs(coarse).mean()), 1e-9))


@dataclass(frozen=True)
class Lent:
    """Frames that lend their pictures to surfaces, brought to one light.

    Attributes
    ----------
    path : the camera in the world. views : the frames. mode : how they are joined. sharpness : (K,) of each, 1 for the
        sharpest. light : what was undone, or None. kept : row whose falloff comes back into the colours, or None.
    """

    path: CameraPath
    views: list[View]
    mode: str
    sharpness: np.ndarray
    light: Light | None = None
    kept: int | None = None

    def colours(self, points: Points, progress: Progress = silent) -> np.ndarray:
        """Return the colours (N, 3) of surface points, NaN where no frame sees them.

        Parameters
        ----------
        points : on surfaces. progress : called with the share done.
        """
        out = np.full((len(points.xyz), 3), np.nan, np.float32)
        for start in range(0, len(out), CHUNK):
            progress(start / len(out), "Joining what was seen")
            part = slice(start, start + CHUNK)
            out[part] = self._joined(Points(points.xyz[part], points.normal[part], points.apart[part]))
        return out

    def _joined(self, points: Points) -> np.ndarray:
        seen = [looked_up(self.path, view, points) for view in self.views]
        colours = np.stack([colour for colour, _ in seen])
        if self.mode == MEDIAN:
            out = np.full((len(points.xyz), 3), np.nan, np.float32)
            _medians(colours, out)
        else:
            weights = np.stack([weight**2 * s for (_, weight), s in zip(seen, self.sharpness)])
            weights[~np.isfinite(colours[..., 0])] = 0.0
            total = weights.sum(0)
            with np.errstate(invalid="ignore", divide="ignore"):
                out = (np.nan_to_num(colours) * weights[..., None]).sum(0) / np.where(total > 0, total, np.nan)[:, None]
        if self.light is None or self.kept is None or self.light.falloff <= 0.0:
            return out
        # Back to the reference's own falloff where it sees the point.
        px = self.path.project(points.xyz, self.kept)
        height, width = self.views[0].picture.shape[:2]
        back = 1.0 - self.light.falloff * _radius2(px[:, 0], px[:, 1], width, height)
        return out * np.where(np.isfinite(back), back, 1.0)[:, None]


def lent(
    path: CameraPath,
    rows: np.ndarray,
    solids: list[Solid],
    look: Look,
    points: Points,
    mode: str = MEDIAN,
    reference: int | None = None,
    progress: Progress = silent,
) -> Lent:
    """Return the frames that lend their pictures, read once and brought to one light.

    Parameters
    ----------
    path : the camera in the world. rows : (K,) of the path that lend their pictures. solids : all that stands there,
        for what hides what. look : pictures by row. points : on the surfaces, by which light is compared. mode : one of
        `MODES`. reference : row whose light is kept, the first when None. progress : called with the share done.

    Raises
    ------
    WorldError : no frames, no points, or an unknown mode.
    """
    if mode not in MODES or not len(rows) or not len(points.xyz):
        raise WorldError("There is nothing to project.", "Choose frames, and proxies that they see.")
    rows = rows[:1] if mode == ONE else chosen_rows(rows)
    views = []
    for k, row in enumerate(rows.tolist()):
        progress(k / len(rows), f"Reading frame {int(path.frames[row])}")
        views.append(_view(path, row, solids, look))
    sharp = np.array([sharpness_of(view.picture) if mode == BLEND else 1.0 for view in views])
    sharp = sharp / max(float(sharp.max()), 1e-9)
    if len(views) < 2:
        return Lent(path, views, mode, sharp)
    kept = reference if reference is not None else int(rows[0])
    base = next((v for v in views if v.row == kept), None) or _view(path, kept, solids, look)
    light = lights(path, views, points, base)
    return Lent(path, [light.undone(view) for view in views], mode, sharp, light, reference)


def _view(path: CameraPath, row: int, solids: list[Solid], look: Look) -> View:
    return View(row, np.asarray(look(row), np.float32), surface_seen(path, row, solids).inverse)


def coloured(
    path: CameraPath,
    points: Points,
    rows: np.ndarray,
    solids: list[Solid],
    look: Look,
    mode: str = MEDIAN,
    reference: int | None = None,
    progress: Progress = silent,
) -> np.ndarray:
    """Return the colours (N, 3) of surface points from one frame, several blended by view angle, distance and
    sharpness, or their median; NaN unseen.

    Parameters and errors are those of `lent`.

    Parameters
    ----------
    path : the camera in the world. points : on surfaces. rows : (K,) of the path. solids : all that stands there.
        look : pictures by row. mode : one of `MODES`. reference : row whose light is kept, the first when None.
        progress : called with the share done.
    """
    frames = lent(path, rows, solids, look, points, mode, reference, span(progress, 0.0, 0.8))
    return frames.colours(points, span(progress, 0.8, 1.0))
