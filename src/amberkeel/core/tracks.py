"""Tracks as flat arrays: what following makes and solving reads."""

from dataclasses import dataclass, field

import numpy as np

AUTO, HAND, TAG = "auto", "hand", "tag"
ACTIVE, CHECK, EXCLUDED = "active", "check", "excluded"


@dataclass(frozen=True)
class TrackSet:
    """2D tracks of one plate, as samples sorted by track and then by frame.

    Attributes
    ----------
    names : list of T track names, each once.
    first : (T + 1,) int, samples of track t are rows ``first[t]:first[t + 1]``.
    frames : (N,) int frame numbers; rise within a track.
    xy : (N, 2) pixels, origin top left, pixel centres at +0.5.
    sigma : (N,) one-sigma noise of each coordinate in pixels.
    score : (N,) match with the reference patch, 0 to 1.
    kinds, states : T strings each: auto/hand/tag and active/check/excluded.
    """

    names: list[str]
    first: np.ndarray
    frames: np.ndarray
    xy: np.ndarray
    sigma: np.ndarray
    score: np.ndarray
    kinds: list[str] = field(default_factory=list)
    states: list[str] = field(default_factory=list)

    def __post_init__(self):
        if not self.kinds:
            object.__setattr__(self, "kinds", [AUTO] * len(self.names))
        if not self.states:
            object.__setattr__(self, "states", [ACTIVE] * len(self.names))

    def __len__(self) -> int:
        return len(self.names)

    @property
    def lengths(self) -> np.ndarray:
        """Samples a track, (T,) int."""
        return np.diff(self.first)

    @property
    def track_of_sample(self) -> np.ndarray:
        """Track number of each sample, (N,) int."""
        return np.repeat(np.arange(len(self)), self.lengths)

    def grid(self, frames: np.ndarray) -> np.ndarray:
        """Return places (F, T, 2) by a plate's `frames` (F,), which have no gaps; NaN where a track is not seen."""
        out = np.full((len(frames), len(self), 2), np.nan)
        out[self.frames - int(frames[0]), self.track_of_sample] = self.xy
        return out

    def rows(self, track: int) -> slice:
        """Return the rows of one track's samples."""
        return slice(int(self.first[track]), int(self.first[track + 1]))

    def take(self, keep: np.ndarray) -> "TrackSet":
        """Return the tracks chosen by a mask or by indices (T,), in the given order."""
        chosen = np.arange(len(self))[keep]
        pieces = [(self.frames[r], self.xy[r], self.sigma[r], self.score[r]) for r in map(self.rows, chosen)]
        return from_pieces(
            [self.names[t] for t in chosen],
            pieces,
            [self.kinds[t] for t in chosen],
            [self.states[t] for t in chosen],
        )


def from_pieces(names, pieces, kinds=None, states=None) -> TrackSet:
    """Build a TrackSet from per-track ``(frames, xy, sigma, score)`` tuples, one for each of `names`."""
    first = np.zeros(len(pieces) + 1, dtype=np.int64)
    first[1:] = np.cumsum([len(p[0]) for p in pieces])

    def stack(column, shape, dtype):
        rows = [np.asarray(p[column], dtype=dtype).reshape(shape) for p in pieces]
        return np.concatenate(rows) if rows else np.zeros(shape, dtype=dtype)[:0]

    return TrackSet(
        list(names),
        first,
        stack(0, (-1,), np.int64) if pieces else np.zeros(0, np.int64),
        stack(1, (-1, 2), float) if pieces else np.zeros((0, 2)),
        stack(2, (-1,), float) if pieces else np.zeros(0),
        stack(3, (-1,), float) if pieces else np.zeros(0),
        list(kinds or []),
        list(states or []),
    )
