"""A shot under construction: its cameras, points and measurements as flat arrays, and the bundles cut from them."""

from copy import copy
from dataclasses import dataclass, field, replace

import numpy as np

from amberkeel.core.solve.arrays import Observations, Scene
from amberkeel.core.solve.bundle import Bundle, LensBlock, lens_rows
from amberkeel.core.solve.lens_plan import Freedom
from amberkeel.core.solve.radial_lens import ARM_NAMES, RadialLens
from amberkeel.core.solve.refine import depth_variances, triangulate_points
from amberkeel.core.solve.world_frame import Shape, World
from amberkeel.core.tracks import TrackSet

SIGMA_FLOOR_PX = 0.05
"""Least noise given to a measurement in the adjustment, pixels: no surface is flat and no lens ideal."""


UNKNOWN_DEPTH = 1e12
"""Variance of an inverse depth of which nothing is known."""


@dataclass(frozen=True)
class Rows:
    """Rows of a problem that a bundle was cut from: its cameras, its points and its measurements."""

    cameras: np.ndarray
    points: np.ndarray
    observations: np.ndarray


@dataclass
class Problem:
    """A shot under construction; functions that change one say so.

    Attributes
    ----------
    frames (F,) frame numbers. rotations (F, 3, 3), centres (F, 3) : cameras, valid where `solved` (F,).
    anchors, directions (P, 3), rhos (P,) : points, valid where `triangulated` (P,).
    lens : the lens. zoom (K,), zoom_basis (F, K) : of the log focal length over frames; K is 0 where nothing zooms.
    first (P + 1,), camera (N,), xy (N, 2), sigma (N,) : measurements by track; camera is the frame's row.
    inlier (N,) bool : measurements that count. active (P,) bool : tracks that may serve; check tracks may not.
    movable (F, 6) bool : degrees in which each camera moves at all, its turn and then its position.
    drift (N, 2) : pixels that a row's own time moves each measurement for a readout of one.
    height : of the picture, pixels. scale (P,) : by what factor each track's noise differs from what is stated.
    gain (P,) : by what factor each track's weight (one over sigma) is raised because that was asked for.
    least : tracks that must agree, None for what tracks alone need.
    surveyed (P,) bool : points that are where they are known to be: they are not triangulated, and count from one
    measurement on.
    world, shapes : of what is known besides the tracks, see `Bundle`.
    """

    frames: np.ndarray
    rotations: np.ndarray
    centres: np.ndarray
    solved: np.ndarray
    anchors: np.ndarray
    directions: np.ndarray
    rhos: np.ndarray
    triangulated: np.ndarray
    lens: RadialLens
    first: np.ndarray
    camera: np.ndarray
    xy: np.ndarray
    sigma: np.ndarray
    inlier: np.ndarray
    active: np.ndarray
    zoom: np.ndarray
    zoom_basis: np.ndarray
    movable: np.ndarray
    drift: np.ndarray
    height: float
    scale: np.ndarray
    gain: np.ndarray
    surveyed: np.ndarray
    least: int | None = None
    world: World = field(default_factory=World)
    shapes: tuple[Shape, ...] = ()

    def lens_block(self, free: tuple[str, ...] = ()) -> LensBlock:
        """Return the lens for a bundle of all frames, with the named values free."""
        return LensBlock(self.lens, free, self.zoom, self.zoom_basis)

    def lens_rows(self) -> np.ndarray:
        """Return each frame's lens row (F, 11)."""
        return lens_rows((self.lens_block(),), np.zeros(len(self.frames), np.int64))

    def scene(self) -> Scene:
        """Return cameras, lens rows and points for the kernels; they are this problem's own arrays."""
        return Scene(self.rotations, self.centres, self.lens_rows(), self.anchors, self.directions, self.rhos)

    @property
    def track(self) -> np.ndarray:
        """Row of the track of each measurement (N,)."""
        return np.repeat(np.arange(len(self.rhos)), np.diff(self.first))

    @property
    def corrected(self) -> np.ndarray:
        """The measurements (N, 2) as they would be had all rows been read at once, pixels."""
        return self.xy - self.lens.readout * self.drift

    @property
    def timed(self) -> np.ndarray:
        """Measurements (N,) bool whose row is read between the first and the last frame's middle rows: of a rolling
        shutter no pose is known for the others.
        """
        if not self.lens.readout:
            return np.ones(len(self.camera), bool)
        low = self.xy[:, 1] > 0.5 * self.height
        first, last = (self.camera == 0) & ~low, (self.camera == len(self.frames) - 1) & low
        return ~(first | last)

    @property
    def first_solved(self) -> int:
        """Row of the first solved frame."""
        return int(np.nonzero(self.solved)[0][0])

    @property
    def all_but_first(self) -> np.ndarray:
        """The solved frames (F,) bool without the first, which holds the gauge of an adjustment; all of them where some
        are held, or the world is, which then hold it.
        """
        free = self.solved.copy()
        if self.world.held:
            return free
        if self.movable[self.solved].any(1).all():
            free[self.first_solved] = False
        return free

    def weights(self, tracks: np.ndarray | None = None) -> np.ndarray:
        """Return one over sigma (N,); 0 for unsolved frames, for outliers, and outside `tracks` (P,) bool."""
        chosen = self.active if tracks is None else tracks
        live = self.inlier & self.solved[self.camera] & chosen[self.track] & self.timed
        return np.where(live, (self.gain / self.scale)[self.track] / self.sigma, 0.0)

    def triangulate(self, tracks: np.ndarray, loss_scale: float) -> None:
        """Triangulate the given tracks (P,) bool from the solved cameras; `loss_scale` is in sigmas."""
        good, tracks = self.triangulated.copy(), tracks & ~self.surveyed
        triangulate_points(self.scene(), self._seen(tracks), self.track, loss_scale**2, tracks, good)
        self.triangulated = np.where(tracks, good, self.triangulated)

    def _seen(self, tracks: np.ndarray) -> Observations:
        """Return the measurements of some tracks (P,) bool for the kernels, as if all rows were read at once."""
        return Observations(self.first, self.camera, self.corrected, self.weights(tracks), np.zeros_like(self.xy))

    def depth_variances(self) -> np.ndarray:
        """Return the variance of each point's inverse depth (P,) in the solved cameras, at most `UNKNOWN_DEPTH`."""
        out = np.empty(len(self.rhos))
        depth_variances(self.scene(), self._seen(self.active & self.triangulated), self.track, out)
        return np.minimum(out, UNKNOWN_DEPTH)

    def bundle(
        self,
        cameras: np.ndarray,
        tracks: np.ndarray,
        free: np.ndarray,
        freedom: Freedom = Freedom(),
        loss_scale: float = 2.5,
    ) -> tuple[Bundle, Rows]:
        """Cut a bundle of some cameras and tracks; return it and the rows it was cut from.

        Parameters
        ----------
        cameras : (F,) bool. tracks : (P,) bool. free : (F,) bool, cameras that may move.
        freedom : what of the lens may change, and what else is known. loss_scale : Cauchy scale in sigmas.
        """
        weight = self.weights(tracks & self.triangulated)
        rows = np.nonzero((weight > 0.0) & cameras[self.camera])[0]
        counts = np.bincount(self.track[rows], minlength=len(self.rhos))
        serves = (counts >= 2) | (self.surveyed & (counts > 0))
        points = np.nonzero(serves)[0]
        rows = rows[serves[self.track[rows]]]
        chosen = np.nonzero(cameras)[0]
        number = np.full(len(self.frames), -1, np.int64)
        number[chosen] = np.arange(len(chosen))
        first = np.concatenate([[0], np.cumsum(counts[points])]).astype(np.int64)
        lens = replace(self.lens_block(freedom.lens), zoom_basis=np.ascontiguousarray(self.zoom_basis[chosen]))
        rank = np.full(len(self.rhos), -1, np.int64)
        rank[points] = np.arange(len(points))
        terms = [term.within(number, rank) for term in freedom.active_terms]
        bundle = Bundle(
            self.rotations[chosen], self.centres[chosen], free[chosen, None] & self.movable[chosen], (lens,),
            np.zeros(len(chosen), np.int64), self.anchors[points], self.directions[points], self.rhos[points],
            first, number[self.camera[rows]], self.xy[rows], weight[rows],
            tuple(term for term in terms if term is not None), loss_scale, self.drift[rows], self.world, self.shapes,
        )  # fmt: skip
        return bundle, Rows(chosen, points, rows)

    def update(self, bundle: Bundle, rows: Rows, lens: int = 0) -> None:
        """Take the cameras, points and a lens of an adjusted bundle over into this problem.

        Parameters
        ----------
        bundle : adjusted. rows : that it was cut from. lens : number of its lens that is this problem's.
        """
        self.rotations[rows.cameras], self.centres[rows.cameras] = bundle.rotations, bundle.centres
        self.anchors[rows.points], self.directions[rows.points] = bundle.anchors, bundle.directions
        self.rhos[rows.points] = bundle.rhos
        self.lens, self.zoom = bundle.lenses[lens].values, bundle.lenses[lens].zoom
        self.world, self.shapes = bundle.world, bundle.shapes

    def copied(self) -> "Problem":
        """Return a problem whose cameras, points and lens can be changed without changing this one's."""
        out = copy(self)
        for name in (
            "rotations", "centres", "solved", "anchors", "directions", "rhos", "triangulated", "inlier", "active",
            "zoom", "movable", "drift", "scale", "surveyed",
        ):  # fmt: skip
            setattr(out, name, getattr(self, name).copy())
        return out

    def of_tracks(self, rows: np.ndarray) -> "Problem":
        """Return a problem of some tracks alone, by their rows (K,), rising; changes in it leave this one as it is."""
        out = self.copied()
        own = np.isin(self.track, rows)
        out.first = np.concatenate([[0], np.cumsum(np.diff(self.first)[rows])]).astype(np.int64)
        for name in ("camera", "xy", "sigma", "inlier", "drift"):
            setattr(out, name, np.ascontiguousarray(getattr(self, name)[own]))
        for name in ("anchors", "directions", "rhos", "triangulated", "active", "scale", "gain", "surveyed"):
            setattr(out, name, np.ascontiguousarray(getattr(self, name)[rows]))
        return out

    def with_part(self, part: "Problem", rows: np.ndarray) -> "Problem":
        """Return the problem with what `of_tracks` parted from it put back: its cameras, its lens, its points."""
        out = self.copied()
        for name in ("rotations", "centres", "solved", "movable"):
            setattr(out, name, getattr(part, name).copy())
        for name in ("anchors", "directions", "rhos", "triangulated"):
            getattr(out, name)[rows] = getattr(part, name)
        out.lens = part.lens
        return out

    def mirror_depths(self) -> None:
        """Take points from behind the camera to its front, mirroring the path in its start; no residual changes."""
        first = self.centres[self.first_solved].copy()
        self.centres, self.anchors, self.rhos = 2.0 * first - self.centres, 2.0 * first - self.anchors, -self.rhos
        for name in ARM_NAMES:
            self.lens = self.lens.with_value(name, -self.lens.value(name))

    def whitened(self, tracks: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return the whitened distances (M,) of every measurement of tracks (P,) bool in solved frames, and their rows.

        Outliers are among them; a point behind the camera gives a distance of thousands.
        """
        rows = np.nonzero(self.solved[self.camera] & (tracks & self.triangulated)[self.track])[0]
        return np.linalg.norm(self._residuals(rows), axis=1) / self.sigma[rows], rows

    def residuals(self, tracks: np.ndarray) -> np.ndarray:
        """Return projected minus measured pixels (N, 2) for measurements of tracks (P,) bool; NaN for all others."""
        out = np.full((len(self.camera), 2), np.nan)
        rows = np.nonzero(self.solved[self.camera] & (tracks & self.triangulated)[self.track])[0]
        out[rows] = self._residuals(rows)
        return out

    def _residuals(self, rows: np.ndarray) -> np.ndarray:
        counts = np.bincount(self.track[rows], minlength=len(self.rhos))
        first = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
        count = len(self.frames)
        bundle = Bundle(
            self.rotations, self.centres, np.zeros((count, 6), bool), (self.lens_block(),), np.zeros(count, np.int64),
            self.anchors, self.directions, self.rhos, first, self.camera[rows], self.corrected[rows],
            1.0 / self.sigma[rows],
        )  # fmt: skip
        return bundle.residuals()


USUAL_DISTANCE = 10.0
"""Distance of the median point from the first camera, in units of an undetermined world."""


def level_world(problem: Problem, directions_only: bool = False) -> World:
    """Return the world of a solve that knows none: the first camera at its origin, the horizon level, and the median
    point at the usual distance.

    Parameters
    ----------
    problem : solved. directions_only : whether points have directions only, as of a camera that turns.
    """
    centre, right = problem.centres[problem.first_solved], problem.rotations[problem.first_solved][:, 0]
    up = -problem.rotations[problem.solved, :, 1].mean(0)
    up = up - (up @ right) * right
    up = up / np.linalg.norm(up)
    turn = np.stack([right, up, np.cross(right, up)])
    unit = 1.0
    if not directions_only:
        away = problem.directions + problem.rhos[:, None] * (problem.anchors - centre)
        reach, inverse = np.linalg.norm(away, axis=1), np.abs(problem.rhos)
        near = problem.triangulated & (inverse > 1e-9 * reach)
        unit = float(np.median(reach[near] / inverse[near])) / USUAL_DISTANCE if near.any() else 1.0
    return World(1.0 / unit, turn, -turn @ centre / unit)


def make_problem(
    tracks: TrackSet, frames: np.ndarray, lens: RadialLens, active: np.ndarray, height: float | None = None
) -> Problem:
    """Return a problem with nothing solved yet.

    Parameters
    ----------
    tracks : measurements, none of them outside `frames` (F,). lens : to begin with.
    active : (T,) bool, tracks that may serve. height : of the picture, pixels; twice the optical centre's when None.
    """
    f, p = len(frames), len(tracks)
    return Problem(
        frames,
        np.tile(np.eye(3), (f, 1, 1)),
        np.zeros((f, 3)),
        np.zeros(f, bool),
        np.zeros((p, 3)),
        np.tile([0.0, 0.0, 1.0], (p, 1)),
        np.zeros(p),
        np.zeros(p, bool),
        lens,
        tracks.first.astype(np.int64),
        np.searchsorted(frames, tracks.frames).astype(np.int64),
        np.ascontiguousarray(tracks.xy),
        np.hypot(tracks.sigma, SIGMA_FLOOR_PX),
        np.ones(len(tracks.frames), bool),
        active,
        np.zeros(0),
        np.zeros((f, 0)),
        np.ones((f, 6), bool),
        np.zeros((len(tracks.frames), 2)),
        2.0 * lens.cy if height is None else height,
        np.ones(p),
        np.ones(p),
        np.zeros(p, bool),
    )
