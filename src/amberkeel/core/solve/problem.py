"""The tracks of a solve as flat arrays, and the bundles cut from them."""

from copy import copy
from dataclasses import dataclass

import numpy as np

from amberkeel.core.solve.bundle import Bundle, lenses_of
from amberkeel.core.solve.points import triangulate
from amberkeel.core.tracks import TrackSet

SIGMA_FLOOR_PX = 0.05
"""Least noise given to a measurement in the adjustment, pixels: no surface is flat and no lens ideal."""


@dataclass
class Problem:
    """Cameras, points and measurements under construction.

    Attributes
    ----------
    frames (F,) frame numbers. rotations (F, 3, 3), centres (F, 3) cameras, valid where `solved` (F,).
    anchors, directions (P, 3), rhos (P,) points, valid where `placed` (P,).
    lens (7,) : fx, aspect, cx, cy, k1, k2, k3. zoom (K,), basis (F, K) : of the log focal length over frames; K may be 0.
    first (P + 1,), camera (N,), xy (N, 2), sigma (N,) : measurements by track; camera is the frame's row.
    usable (N,) bool : not set aside. used (P,) bool : tracks that may serve; check tracks may not.
    """

    frames: np.ndarray
    rotations: np.ndarray
    centres: np.ndarray
    solved: np.ndarray
    anchors: np.ndarray
    directions: np.ndarray
    rhos: np.ndarray
    placed: np.ndarray
    lens: np.ndarray
    first: np.ndarray
    camera: np.ndarray
    xy: np.ndarray
    sigma: np.ndarray
    usable: np.ndarray
    used: np.ndarray
    zoom: np.ndarray
    basis: np.ndarray

    def lenses(self) -> np.ndarray:
        """Return each frame's lens (F, 7)."""
        return lenses_of(self.lens, self.zoom, self.basis)

    @property
    def track(self) -> np.ndarray:
        """Track number of each measurement (N,)."""
        return np.repeat(np.arange(len(self.rhos)), np.diff(self.first))

    def weights(self, tracks: np.ndarray | None = None) -> np.ndarray:
        """Return one over sigma (N,); 0 for unsolved frames, for what is set aside, and outside `tracks` (P,) bool."""
        chosen = self.used if tracks is None else tracks
        live = self.usable & self.solved[self.camera] & chosen[self.track]
        return np.where(live, 1.0 / self.sigma, 0.0)

    def place(self, tracks: np.ndarray, loss_scale: float) -> None:
        """Triangulate the given tracks (P,) bool from the solved cameras."""
        good = self.placed.copy()
        triangulate(
            self.rotations, self.centres, self.lenses(), self.first, self.camera, self.xy, self.weights(tracks),
            loss_scale**2, tracks, self.anchors, self.directions, self.rhos, good,
        )  # fmt: skip
        self.placed = np.where(tracks, good, self.placed)

    def bundle(self, cameras: np.ndarray, tracks: np.ndarray, free: np.ndarray, **options) -> tuple[Bundle, tuple]:
        """Cut a bundle of some cameras (F,) bool and tracks (P,) bool, of which cameras in `free` may move.

        Returns the bundle and the rows of its cameras, points and measurements here.
        """
        tracks = tracks & self.placed
        weight = self.weights(tracks)
        rows = np.nonzero((weight > 0.0) & cameras[self.camera])[0]
        counts = np.bincount(self.track[rows], minlength=len(self.rhos))
        points = np.nonzero(counts >= 2)[0]
        rows = rows[(counts >= 2)[self.track[rows]]]
        chosen = np.nonzero(cameras)[0]
        number = np.full(len(self.frames), -1, np.int64)
        number[chosen] = np.arange(len(chosen))
        first = np.concatenate([[0], np.cumsum(counts[points])]).astype(np.int64)
        bundle = Bundle(
            self.rotations[chosen].copy(), self.centres[chosen].copy(),
            self.anchors[points].copy(), self.directions[points].copy(), self.rhos[points].copy(), self.lens.copy(),
            first, number[self.camera[rows]], self.xy[rows].copy(), weight[rows], free[chosen],
            zoom=self.zoom.copy(), basis=np.ascontiguousarray(self.basis[chosen]), **options,
        )  # fmt: skip
        return bundle, (chosen, points, rows)

    def take(self, bundle: Bundle, rows: tuple) -> None:
        """Take an adjusted bundle's cameras, points and lens back."""
        chosen, points, _ = rows
        self.rotations[chosen], self.centres[chosen] = bundle.rotations, bundle.centres
        self.anchors[points], self.directions[points], self.rhos[points] = bundle.anchors, bundle.directions, bundle.rhos
        self.lens, self.zoom = bundle.lens, bundle.zoom

    def copied(self) -> "Problem":
        """Return a problem whose cameras, points and lens can be changed without changing this one's; measurements are shared."""
        out = copy(self)
        for name in ("rotations", "centres", "solved", "anchors", "directions", "rhos", "placed", "usable", "lens", "zoom"):
            setattr(out, name, getattr(self, name).copy())
        return out

    def turn_about(self) -> None:
        """Take the points from behind the camera to its front: the path is mirrored in its first place, which changes no residual."""
        first = self.centres[int(np.nonzero(self.solved)[0][0])].copy()
        self.centres, self.anchors, self.rhos = 2.0 * first - self.centres, 2.0 * first - self.anchors, -self.rhos

    def whole(self, tracks: np.ndarray) -> tuple[Bundle, np.ndarray]:
        """Return a bundle of every measurement of `tracks` (P,) in solved frames, set aside or not, and their rows."""
        rows = np.nonzero(self.solved[self.camera] & (tracks & self.placed)[self.track])[0]
        points = np.nonzero(np.bincount(self.track[rows], minlength=len(self.rhos)) > 0)[0]
        counts = np.bincount(self.track[rows], minlength=len(self.rhos))[points]
        first = np.concatenate([[0], np.cumsum(counts)]).astype(np.int64)
        bundle = Bundle(
            self.rotations, self.centres, self.anchors[points], self.directions[points], self.rhos[points], self.lens,
            first, self.camera[rows], self.xy[rows], 1.0 / self.sigma[rows], self.solved, zoom=self.zoom, basis=self.basis,
        )  # fmt: skip
        return bundle, rows


def make_problem(tracks: TrackSet, frames: np.ndarray, lens: np.ndarray, used: np.ndarray) -> Problem:
    """Return a problem with nothing solved yet; samples outside `frames` must have been dropped."""
    f, p = len(frames), len(tracks)
    return Problem(
        frames, np.tile(np.eye(3), (f, 1, 1)), np.zeros((f, 3)), np.zeros(f, bool),
        np.zeros((p, 3)), np.tile([0.0, 0.0, 1.0], (p, 1)), np.zeros(p), np.zeros(p, bool), lens.copy(),
        tracks.first.astype(np.int64), np.searchsorted(frames, tracks.frames).astype(np.int64),
        np.ascontiguousarray(tracks.xy), np.hypot(tracks.sigma, SIGMA_FLOOR_PX), np.ones(len(tracks.frames), bool), used,
        np.zeros(0), np.zeros((f, 0)),
    )  # fmt: skip
