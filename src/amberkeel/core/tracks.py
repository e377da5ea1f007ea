"""Tracks as flat arrays: what following makes and solving reads."""

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace

import numpy as np

AUTO, HAND, TAG = "auto", "hand", "tag"
KINDS = (AUTO, HAND, TAG)
ACTIVE, CHECK, EXCLUDED = "active", "check", "excluded"

Piece = tuple[np.ndarray, np.ndarray, np.ndarray, np.ndarray]
"""One track's frames (n,), xy (n, 2), sigma (n,) and score (n,)."""


@dataclass(frozen=True)
class TrackSet:
    """2D tracks of one plate, as samples sorted by track and then by frame.

    Attributes
    ----------
    names : list of T track names, each once. A name is for people and may change; `ids` say which track is meant.
    first : (T + 1,) int, samples of track t are rows ``first[t]:first[t + 1]``.
    frames : (N,) int frame numbers; rise within a track.
    xy : (N, 2) pixels, origin top left, pixel centres at +0.5.
    sigma : (N,) one-sigma noise of each coordinate in pixels.
    score : (N,) match with the reference patch, 0 to 1.
    kinds, states : T strings each: auto/hand/tag and active/check/excluded.
    ids : (T,) int, each once; 1 to T where the tracks come from nowhere that keeps them.
    """

    names: list[str]
    first: np.ndarray
    frames: np.ndarray
    xy: np.ndarray
    sigma: np.ndarray
    score: np.ndarray
    kinds: list[str] = field(default_factory=list)
    states: list[str] = field(default_factory=list)
    ids: np.ndarray = field(default_factory=lambda: np.zeros(0, np.int64))

    def __post_init__(self) -> None:
        if not self.kinds:
            object.__setattr__(self, "kinds", [AUTO] * len(self.names))
        if not self.states:
            object.__setattr__(self, "states", [ACTIVE] * len(self.names))
        if len(self.ids) != len(self.names):
            object.__setattr__(self, "ids", np.arange(1, len(self.names) + 1))

    def __len__(self) -> int:
        return len(self.names)

    @property
    def lengths(self) -> np.ndarray:
        """Samples a track, (T,) int."""
        return np.diff(self.first)

    @property
    def track_of_sample(self) -> np.ndarray:
        """Row of the track of each sample, (N,) int."""
        return np.repeat(np.arange(len(self)), self.lengths)

    def in_state(self, state: str) -> np.ndarray:
        """Return which tracks are in a state, (T,) bool."""
        return np.array([s == state for s in self.states], bool)

    def grid(self, frames: np.ndarray) -> np.ndarray:
        """Return positions (F, T, 2) by a plate's `frames` (F,), which have no gaps; NaN where a track is not seen."""
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
            self.ids[chosen],
        )

    def on_frames(self, frames: np.ndarray) -> "TrackSet":
        """Return the tracks without samples on other frames than `frames` (F,); a track may be left without any."""
        keep = np.isin(self.frames, frames)
        counts = np.bincount(self.track_of_sample[keep], minlength=len(self))
        return replace(
            self, first=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64), frames=self.frames[keep],
            xy=self.xy[keep], sigma=self.sigma[keep], score=self.score[keep],
        )  # fmt: skip


def from_pieces(
    names: Iterable[str],
    pieces: Sequence[Piece],
    kinds: Iterable[str] | None = None,
    states: Iterable[str] | None = None,
    ids: Sequence[int] | np.ndarray | None = None,
) -> TrackSet:
    """Build a TrackSet from one piece for each track.

    Parameters
    ----------
    names : T names. pieces : T tuples of frames (n,), xy (n, 2) pixels, sigma (n,) pixels and score (n,).
    kinds, states : T words each, or None for auto and active. ids : (T,) int, or None for 1 to T.
    """
    first = np.zeros(len(pieces) + 1, dtype=np.int64)
    first[1:] = np.cumsum([len(p[0]) for p in pieces])

    def stack(column: int, shape: tuple[int, ...], dtype: type) -> np.ndarray:
        rows: list[np.ndarray] = [np.asarray(p[column], dtype=dtype).reshape(shape) for p in pieces]
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
        np.zeros(0, np.int64) if ids is None else np.asarray(ids, np.int64),
    )


def beside(tracks: TrackSet, further: TrackSet) -> TrackSet:
    """Return tracks with further ones beside them, which are given ids that are free; raises ValueError where two have
    one name.

    Parameters
    ----------
    tracks, further : of one plate.
    """
    twice = set(tracks.names) & set(further.names)
    if twice:
        raise ValueError(f"two tracks are named {min(twice)}")
    pieces = [
        (s.frames[r], s.xy[r], s.sigma[r], s.score[r]) for s in (tracks, further) for r in map(s.rows, range(len(s)))
    ]
    start = int(tracks.ids.max(initial=0)) + 1
    return from_pieces(
        [*tracks.names, *further.names], pieces, [*tracks.kinds, *further.kinds], [*tracks.states, *further.states],
        np.concatenate([tracks.ids, np.arange(start, start + len(further))]),
    )  # fmt: skip
