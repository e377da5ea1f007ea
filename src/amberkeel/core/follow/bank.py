"""Reference patches of features and their fits, as columns that grow and shrink together."""

from functools import lru_cache

import numpy as np

from amberkeel.core.follow.register import make_references

_COLUMNS = ("ids", "states", "patches", "gradients", "inverses", "drift2", "held")


def scale_and_distortion(states: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
    """Return the area scale of each fit's warp (N,), and how unlike a similarity it is (1 and up)."""
    a, b, c, d = states[:, 2:6].T
    det = np.abs(a * d - b * c)
    return det, (a * a + b * b + c * c + d * d) / np.maximum(2.0 * det, 1e-6)


def fit_variance(states: np.ndarray, results: np.ndarray) -> np.ndarray:
    """Return the variance of each fitted position (N,), square pixels."""
    return np.maximum(results[:, 1] * np.maximum(scale_and_distortion(states)[0], 0.05), 1e-8)


def states_at(gray: np.ndarray, xy: np.ndarray) -> np.ndarray:
    """Return fits (N, 8) of references just cut at `xy` (N, 2): no warp, and the grey value there as offset."""
    states = np.tile([0.0, 0.0, 1.0, 0.0, 0.0, 1.0, 1.0, 0.0], (len(xy), 1))
    states[:, :2] = xy
    states[:, 7] = gray[xy[:, 1].astype(int), xy[:, 0].astype(int)]
    return states


@lru_cache(maxsize=4)
def _converted(picture: "_Same") -> np.ndarray:
    return picture.pixels.astype(np.float32)


class _Same:
    """A picture as a key: the same array, not an equal one."""

    def __init__(self, pixels: np.ndarray):
        self.pixels = pixels

    def __hash__(self) -> int:
        return id(self.pixels)

    def __eq__(self, other) -> bool:
        return self.pixels is other.pixels


def as_float(gray: np.ndarray) -> np.ndarray:
    """Return a picture as float32; the last few are kept."""
    return gray if gray.dtype == np.float32 else _converted(_Same(gray))


class Bank:
    """Reference patches and fits of features.

    `states` (N, 8) are the fits on the newest frame, `drift2` (N,) the variance that came with renewed references,
    `held` (N, 3) the position and its variance on the last sharp frame.
    """

    def __init__(self, half: int, warp_prior: float):
        self.half, self.warp_prior = half, warp_prior
        size = 2 * half + 1
        self.ids = np.zeros(0, np.int64)
        self.states = np.zeros((0, 8))
        self.patches = np.zeros((0, size, size), np.float32)
        self.gradients = np.zeros((0, size, size, 2), np.float32)
        self.inverses = np.zeros((0, 8, 8))
        self.drift2 = np.zeros(0)
        self.held = np.zeros((0, 3))

    def cut(self, gray: np.ndarray, xy: np.ndarray):
        """Return references cut at `xy` as (patches, gradients, inverses, made)."""
        n, size = len(xy), 2 * self.half + 1
        patches = np.zeros((n, size, size), np.float32)
        gradients = np.zeros((n, size, size, 2), np.float32)
        inverses = np.zeros((n, 8, 8))
        made = np.zeros(n, np.bool_)
        make_references(
            as_float(gray),
            np.ascontiguousarray(xy, float),
            self.half,
            self.warp_prior,
            patches,
            gradients,
            inverses,
            made,
        )
        return patches, gradients, inverses, made

    def add(self, gray: np.ndarray, ids: np.ndarray, xy: np.ndarray) -> np.ndarray:
        """Take up features; return which could be taken (N,) bool.

        Parameters
        ----------
        gray : (H, W) uint8 of the frame. ids : (N,) numbers of the features. xy : (N, 2) pixels.
        """
        patches, gradients, inverses, made = self.cut(gray, xy)
        states, held = states_at(gray, xy), np.c_[xy, np.zeros(len(xy))]
        self._append(
            ids[made], states[made], patches[made], gradients[made], inverses[made], np.zeros(made.sum()), held[made]
        )
        return made

    def _append(self, *parts: np.ndarray) -> None:
        for name, part in zip(_COLUMNS, parts):
            setattr(self, name, np.concatenate([getattr(self, name), part]))

    def take_from(self, other: "Bank", which: np.ndarray) -> None:
        """Take features over from another bank, which lets go of them."""
        self._append(*(getattr(other, name)[which] for name in _COLUMNS))
        other.keep(~which)

    def keep(self, mask: np.ndarray) -> None:
        """Let go of the features not in `mask`."""
        if mask.all():
            return
        for name in _COLUMNS:
            setattr(self, name, getattr(self, name)[mask])

    def renew(self, gray: np.ndarray, which: np.ndarray, variance: np.ndarray) -> None:
        """Cut new references where the view has changed; the fit's own noise stays with the track as drift.

        Parameters
        ----------
        gray : (H, W) uint8 of the frame. which : (N,) bool, features whose reference is cut anew. variance : (N,)
            of their positions, pixels squared.
        """
        rows = np.nonzero(which)[0]
        if not len(rows):
            return
        patches, gradients, inverses, made = self.cut(gray, self.states[rows, :2])
        rows, good = rows[made], np.nonzero(made)[0]
        self.patches[rows], self.gradients[rows], self.inverses[rows] = patches[good], gradients[good], inverses[good]
        self.states[rows] = states_at(gray, self.states[rows, :2])
        self.drift2[rows] += variance[rows]
