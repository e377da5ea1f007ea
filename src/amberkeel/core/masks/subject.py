"""One subject among all that moves: led from the frames where it was shown through all others.

On every frame `moving.region_of` says which spots do not stand still. Which of them are the subject is carried along:
flow says where each spot was a frame before, and colours, learned from where the subject and whatever else moves were
shown, decide where flow cannot: where limbs swing, where two cross, and where one comes out from behind something
(Bayesian labelling by motion and colour after Criminisi et al. 2006). A subject that stands is held by flow alone; one
that is hidden goes on as it was going, and is found again by its colours.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import cv2
import numpy as np
from scipy import ndimage

from amberkeel.core.errors import MaskError
from amberkeel.core.masks.crossing import Crossing, middle_of
from amberkeel.core.masks.looks import Looks
from amberkeel.core.masks.moves import Moves
from amberkeel.core.progress import Progress, silent

LEAST_SPOTS = 4
"""Spots that a subject must have where it is shown."""

BY_FLOW, BY_COLOUR = 3.0, 1.0
"""Log odds that flow gives, and by how much those of colour count."""

SPEED_SPOTS, MOST_SPEED = 0.6, 2.0
"""Difference of motion that counts as one log odd, in spots a frame, and the most that they come to."""

NEW = -1.2
"""Log odds from which what appears beside a subject is its own."""

HANGS = 0.35
"""Share of the subject's usual size below which what hangs on it is nothing that crosses it."""

MEETS = 0.1
"""Share of the subject's usual size that something else must have to count as crossing it."""

LOOSE_SPOTS = 3
"""Spots from the subject within which a loose part of it may lie."""

STANDS = 0.3
"""Share of a subject that must still move; with less it stands, and is held by flow."""

GONE = 0.12
"""Share of its usual size below which a subject is hidden, or out of the picture."""

HIDDEN_FRAMES = 30
"""Frames over which a hidden subject is looked for."""

GATE_SPOTS, GATE_GROWS = 4.0, 0.6
"""How far from where it was going it is looked for: spots, and more for each frame that it is hidden."""

AT_EDGE = 2
"""Spots from the picture's edge within which a subject that vanishes has left the picture."""

DOUBTED = 0.4
"""Overlap with what was expected below which a subject is in doubt."""

SLOW = 0.5
"""Spots a frame below which a subject is not on its way anywhere."""

DOUBT_SPOTS = 1.5
"""Spots by which a subject is widened where it is wholly in doubt."""


@dataclass(frozen=True)
class Shown:
    """A frame on which the subject is shown.

    Attributes
    ----------
    frame : number. yes : (gh, gw) bool, spots that are the subject. no : (gh, gw) bool, spots that are not.
    within : (gh, gw) bool, outside of which it does not reach, or None; with no `yes`, what moves inside it is the
        subject.
    """

    frame: int
    yes: np.ndarray
    no: np.ndarray
    within: np.ndarray | None = None


@dataclass(frozen=True)
class Seen:
    """The subject on a frame: its spots (gh, gw) bool, how sure they are (0 to 1), and what is to be said of it."""

    spots: np.ndarray
    sure: float
    said: str = ""


STANDING, HIDDEN, DOUBTFUL = "stands still", "hidden", "in doubt"


class NothingMoves(MaskError):
    """Nothing that moves by itself lies where a subject was shown."""


def follow_subject(
    moves: Moves,
    shown: list[Shown],
    first: int,
    last: int,
    progress: Progress = silent,
    told: Callable[[int, Seen], None] | None = None,
) -> dict[int, Seen]:
    """Return the subject on the frames from `first` to `last` on which it is seen or expected.

    Parameters
    ----------
    moves : of the plate. shown : the frames on which the subject was shown, at least one within the range.
    progress : the share done. told : called with each frame as it is found.

    Raises
    ------
    MaskError : nothing that moves was shown, or no frame of the range was.
    """
    shown = sorted((one for one in shown if first <= one.frame <= last), key=lambda one: one.frame)
    if not shown:
        raise MaskError("The subject is shown on none of these frames.", "Show it on one of them.")
    looks = Looks()
    starts = {one.frame: start_of(moves, one) for one in shown}
    for frame, (subject, others) in starts.items():
        looks.learn(moves.colours(frame), subject, others | _beside(subject))
    done, total = [0], max(last - first, 1)

    def step(frame: int, seen: Seen) -> None:
        done[0] += 1
        if told:
            told(frame, seen)
        progress(min(done[0] / total, 1.0), f"Following the subject, frame {frame}")

    out: dict[int, Seen] = {frame: Seen(subject, 1.0) for frame, (subject, _) in starts.items()}
    frames = sorted(starts)
    out |= _led(moves, looks, starts[frames[0]], frames[0], first, step)
    for a, b in zip(frames, frames[1:]):
        ahead = _led(moves, looks, starts[a], a, b - 1, step)
        back = _led(moves, looks, starts[b], b, a + 1, lambda *_: None)
        out |= _from_both(ahead, back, a, b)
    out |= _led(moves, looks, starts[frames[-1]], frames[-1], last, step)
    return dict(sorted(out.items()))


def start_of(moves: Moves, shown: Shown) -> tuple[np.ndarray, np.ndarray]:
    """Return the subject's spots (gh, gw) on a frame on which it is shown, and those of whatever else moves.

    Raises
    ------
    NothingMoves : nothing moves where the subject is shown.
    """
    body = (moves.body(shown.frame) | shown.yes) & ~shown.no
    count, parts = cv2.connectedComponents(body.astype(np.uint8))
    if shown.within is not None:
        # A part belongs to what it lies in for the most; a foot may stick out.
        inside = np.bincount(parts[shown.within], minlength=count) / np.maximum(
            np.bincount(parts.ravel(), minlength=count), 1
        )
        inside[0] = 0.0
        reach = cv2.dilate(shown.within.astype(np.uint8), np.ones((5, 5), np.uint8)) > 0
        subject = (body & shown.within) | ((inside > 0.5)[parts] & reach & body)
    else:
        own = np.unique(parts[shown.yes & body])
        subject = np.isin(parts, own[own > 0])
    if shown.no.any() and shown.yes.any() and shown.within is None:
        nearer = [cv2.distanceTransform((~seeds).astype(np.uint8), cv2.DIST_L2, 5) for seeds in (shown.yes, shown.no)]
        subject &= nearer[0] <= nearer[1]
    subject = (subject | shown.yes) & ~shown.no
    if subject.sum() < LEAST_SPOTS:
        raise NothingMoves(
            f"Nothing moves by itself there on frame {shown.frame}.",
            "Show the subject on a frame on which it moves, or draw its outline and follow that as one piece.",
        )
    return subject, _others(moves.body(shown.frame), subject, shown.no, float(subject.sum()))


def _others(body: np.ndarray, subject: np.ndarray, known: np.ndarray, usual: float) -> np.ndarray:
    """Return what else moves (gh, gw): not the small things that hang on the subject and were not known as something
    else before, such as what it carries.
    """
    rest = body & ~subject
    count, parts = cv2.connectedComponents(rest.astype(np.uint8))
    size = np.bincount(parts.ravel(), minlength=count)
    beside = cv2.dilate(subject.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0
    hangs = np.bincount(parts[beside & rest], minlength=count) > 0
    before = np.bincount(parts[known & rest], minlength=count) > 0.5 * size
    dropped = hangs & ~before & (size < HANGS * usual)
    dropped[0] = True
    return rest & ~dropped[parts]


def _beside(subject: np.ndarray) -> np.ndarray:
    """Return a ring of spots about a subject, as many as half its width."""
    size = max(3, int(np.sqrt(subject.sum())) | 1)
    near = cv2.dilate(subject.astype(np.uint8), np.ones((size, size), np.uint8)) > 0
    return near & ~(cv2.dilate(subject.astype(np.uint8), np.ones((3, 3), np.uint8)) > 0)


def _led(
    moves: Moves,
    looks: Looks,
    start: tuple[np.ndarray, np.ndarray],
    frame: int,
    to: int,
    step: Callable[[int, Seen], None],
) -> dict[int, Seen]:
    """Return the subject on the frames after one on which it is known, to another one, later or earlier; it ends where
    the subject has left the picture, or stays hidden.
    """
    way = 1 if to > frame else -1
    out: dict[int, Seen] = {}
    if (to - frame) * way <= 0:
        return out
    run = _Run(moves, looks, *start)
    for at in range(frame + way, to + way, way):
        seen = run.step(at - way, at)
        if seen is None:
            break
        out[at] = seen
        step(at, seen)
    # What was only expected, and never found again, is not kept.
    for last in sorted(out, key=lambda one: -one * way):
        if out[last].said != HIDDEN:
            break
        del out[last]
    return out


class _Run:
    """The subject on its way from frame to frame."""

    def __init__(self, moves: Moves, looks: Looks, subject: np.ndarray, others: np.ndarray):
        self.moves, self.looks = moves, looks
        self.subject, self.others = subject.astype(np.float32), others.astype(np.float32)
        self.usual, self.hidden = float(subject.sum()), 0
        self.at, self.speed, self.other_speed = middle_of(subject), np.zeros(2), np.zeros(2)
        self.shape = subject
        self.crossing: Crossing | None = None

    def step(self, frame: int, to: int) -> Seen | None:
        """Go to a neighbouring frame; None where the subject is gone."""
        body = self.moves.body(to)
        if self.hidden:
            return self._sought(body, frame, to)
        ahead, beside = (self.moves.carried(part, frame, to) for part in (self.subject, self.others))
        expected = ahead > 0.5
        if not expected.any() and self.crossing is None:
            return self._lost(frame, to)
        bins, moved = self.moves.colours(to), self.moves.moved(frame, to)
        parts, mine, theirs = _parted(body, ahead, beside)
        self._meet(ahead, beside, parts, mine, theirs)
        spots = self._labelled(body, ahead, beside, bins, moved, (parts, mine, theirs))
        said = ""
        standing = expected.any() and (spots & expected).sum() < STANDS * expected.sum()
        going = self._going_out(expected)
        if self.crossing is None and standing and not going and not _other_there(body & ~spots, expected):
            # Nothing speaks for motion there any more, and nothing covers it: it stands.
            still = expected & (self.looks.odds(bins) > -0.5)
            spots, said = spots | still, STANDING
        if self.crossing is not None and spots.sum() < max(GONE * self.usual, LEAST_SPOTS):
            return self._covered(body, spots)
        if spots.sum() < max(GONE * self.usual, LEAST_SPOTS):
            return self._lost(frame, to)
        overlap = float((spots & expected).sum() / max((spots | expected).sum(), 1))
        self._take(spots, _others(body, spots, beside > 0.5, self.usual), overlap, moved)
        if self.crossing is None:
            self.looks.learn(bins, spots, self.others > 0.5, 0.1 * overlap)
        if self.crossing is not None and overlap < DOUBTED:
            # Little of it is seen: where it is expected behind the other one counts too.
            spots = spots | (self.crossing.subject > 0.5)
        return Seen(spots, overlap, said or (DOUBTFUL if overlap < DOUBTED else ""))

    def _meet(
        self, ahead: np.ndarray, beside: np.ndarray, parts: np.ndarray, mine: np.ndarray, theirs: np.ndarray
    ) -> None:
        """Begin or end a crossing: the subject and something else that moves are one region; parts as of `_parted`."""
        both = (mine > 0) & (theirs >= MEETS * self.usual)
        if self.crossing is None and both.any():
            near = (beside > 0.5) & (ahead <= 0.5) & both[parts]
            self.crossing = Crossing(self.subject > 0.5, near, self.speed, self.other_speed)
        elif self.crossing is not None:
            apart = self.crossing.apart()
            if (apart and not both.any()) or self.crossing.age > HIDDEN_FRAMES:
                self.crossing = None

    def _labelled(self, body, ahead, beside, bins, moved, parted) -> np.ndarray:
        """Return which spots (gh, gw) of what moves are the subject's: `ahead` and `beside` are what flow says of it
        and of all else that moves, `moved` (gh, gw, 2) where each spot came from, `parted` as of `_parted`.
        """
        parts, mine, theirs = parted
        alone = (mine > 0) & (theirs < 0.05 * np.maximum(mine, 1.0))
        colour = BY_COLOUR * self.looks.odds(bins)
        # A swinging limb may move as something far off does: motion decides only where both are in one part.
        speed = np.where(alone[parts], 0.0, _by_speed(moved, ahead, beside, body))
        odds = BY_FLOW * (ahead - beside) + colour + speed
        if self.crossing is not None:
            odds = self.crossing.odds(body, odds, colour)
        weight = body.astype(np.float32)
        smooth = cv2.GaussianBlur(np.where(body, odds, 0.0).astype(np.float32), (0, 0), 1.0)
        smooth = smooth / np.maximum(cv2.GaussianBlur(weight, (0, 0), 1.0), 1e-3)
        if self.crossing is not None:
            return body & (smooth > 0.0)
        shared = (mine > 0) & ~alone
        # A subject by itself keeps what flow gives it; what is new beside it must look and move like it.
        known = (ahead > 0.3) | (smooth > NEW)
        own = ((alone[parts] & known) | (shared[parts] & (smooth > 0.0))) & body
        return own | self._loose(own, parts, mine + theirs, smooth)

    def _loose(self, own: np.ndarray, parts: np.ndarray, taken: np.ndarray, odds: np.ndarray) -> np.ndarray:
        """Return small parts of what moves (gh, gw) that hang together with nothing known, lie close to the subject,
        and look like it: a leg that the background shows through beside.
        """
        size = np.maximum(np.bincount(parts.ravel(), minlength=len(taken)), 1)
        close = cv2.dilate(own.astype(np.uint8), np.ones((2 * LOOSE_SPOTS + 1,) * 2, np.uint8)) > 0
        near = np.bincount(parts[close], minlength=len(taken)) > 0
        alike = np.bincount(parts.ravel(), odds.ravel(), minlength=len(taken)) > NEW * size
        fits = near & alike & (taken == 0) & (size < HANGS * self.usual)
        fits[0] = False
        return fits[parts]

    def _take(self, spots: np.ndarray, others: np.ndarray, sure: float, moved: np.ndarray) -> None:
        here = middle_of(spots)
        self.speed = _speed(self.speed, moved, spots)
        self.other_speed = _speed(self.other_speed, moved, others)
        if self.crossing is not None:
            self.at = self.crossing.middle
        else:
            self.at, self.shape = here, spots
            self.usual += 0.1 * sure * (float(spots.sum()) - self.usual)
        self.subject, self.others = spots.astype(np.float32), others.astype(np.float32)

    def _covered(self, body: np.ndarray, spots: np.ndarray) -> Seen | None:
        """Return the subject as it is expected behind what crosses before it."""
        assert self.crossing is not None
        height, width = body.shape
        if (self.crossing.middle < 0).any() or (self.crossing.middle > [width - 1, height - 1]).any():
            return None
        self.at = self.crossing.middle
        self.subject, self.others = spots.astype(np.float32), (body & ~spots).astype(np.float32)
        return Seen(self.crossing.subject > 0.5, 0.0, HIDDEN)

    def _going_out(self, expected: np.ndarray) -> bool:
        """Return whether the subject, where it is expected, is on its way out of the picture."""
        rows, columns = np.nonzero(expected)
        if not len(rows) or np.linalg.norm(self.speed) < SLOW:
            return False
        height, width = expected.shape
        ends = np.array([[columns.min(), rows.min()], [width - 1 - columns.max(), height - 1 - rows.max()]])
        outwards = np.array([-self.speed, self.speed])
        return bool(((ends < AT_EDGE) & (outwards > SLOW)).any())

    def _lost(self, frame: int, to: int) -> Seen | None:
        """Return the subject as it is expected on a frame on which it is not seen; None where it left the picture."""
        height, width = self.shape.shape
        ahead = self.at + self.speed * 2.0
        out = (ahead < AT_EDGE).any() or (ahead > np.array([width, height]) - 1 - AT_EDGE).any()
        rows, columns = np.nonzero(self.shape)
        touches = len(rows) and (
            columns.min() == 0 or columns.max() == width - 1 or rows.min() == 0 or rows.max() == height - 1
        )
        if out or (touches and self.shape.sum() < 0.5 * self.usual):
            return None
        self.hidden = 1
        self.others = self.moves.body(to).astype(np.float32)
        return self._expected()

    def _expected(self) -> Seen | None:
        """Return the subject's shape as it was, moved on, and widened by the doubt."""
        self.at = self.at + self.speed
        height, width = self.shape.shape
        if (self.at < 0).any() or (self.at > [width - 1, height - 1]).any() or self.hidden > HIDDEN_FRAMES:
            return None
        shift = np.round(self.at - middle_of(self.shape)).astype(int)
        moved = ndimage.shift(self.shape.astype(np.uint8), shift[::-1], order=0) > 0
        return Seen(moved, 0.0, HIDDEN)

    def _sought(self, body: np.ndarray, frame: int, to: int) -> Seen | None:
        """Look for a hidden subject among what moves near where it was going."""
        self.hidden += 1
        expected = self._expected()
        if expected is None:
            return None
        beside = self.moves.carried(self.others, frame, to)
        odds = self.looks.odds(self.moves.colours(to))
        away = cv2.distanceTransform((~expected.spots).astype(np.uint8), cv2.DIST_L2, 5)
        near = away < GATE_SPOTS + GATE_GROWS * self.hidden
        found = body & near & (odds - 1.0 * beside > 0.0)
        found = ndimage.binary_opening(found, np.ones((2, 2))) & body
        self.others = (body & ~found).astype(np.float32)
        if found.sum() < max(GONE * self.usual, LEAST_SPOTS):
            return expected
        self.hidden = 0
        self._take(found, body & ~found, 0.5, self.moves.moved(frame, to))
        return Seen(found, 0.3, DOUBTFUL)


def _parted(body: np.ndarray, ahead: np.ndarray, beside: np.ndarray) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
    """Return the parts of what moves (gh, gw), numbered from 1, and how many spots of each (P,) flow gives to the
    subject, and to something else.
    """
    count, parts = cv2.connectedComponents(body.astype(np.uint8))
    own = ahead > 0.5
    mine = np.bincount(parts[own & body], minlength=count)
    theirs = np.bincount(parts[(beside > 0.5) & ~own & body], minlength=count)
    mine[0] = theirs[0] = 0
    return parts, mine, theirs


def _speed(before: np.ndarray, moved: np.ndarray, spots: np.ndarray) -> np.ndarray:
    """Return a speed (2,), spots a frame, brought up to date by where some spots came from."""
    if spots.sum() < LEAST_SPOTS:
        return before
    now = -np.median(moved[spots], axis=0)
    return now if not before.any() else 0.7 * before + 0.3 * now


def _by_speed(moved: np.ndarray, ahead: np.ndarray, beside: np.ndarray, body: np.ndarray) -> np.ndarray:
    """Return the log odds (gh, gw) that spots which moved so (gh, gw, 2) go with the subject: those near its usual
    motion do, those near that of what else moves do not.
    """
    own, other = (ahead > 0.5) & body, (beside > 0.5) & (ahead <= 0.5) & body
    if own.sum() < LEAST_SPOTS or other.sum() < max(LEAST_SPOTS, MEETS * own.sum()):
        return np.zeros(ahead.shape, np.float32)
    from_own = np.linalg.norm(moved - np.median(moved[own], axis=0), axis=2)
    from_other = np.linalg.norm(moved - np.median(moved[other], axis=0), axis=2)
    return np.clip((from_other - from_own) / SPEED_SPOTS, -MOST_SPEED, MOST_SPEED)


def _other_there(others: np.ndarray, expected: np.ndarray) -> bool:
    """Return whether something else that moves lies where the subject is expected."""
    return bool((others & expected).sum() > 0.3 * expected.sum())


def _from_both(ahead: dict[int, Seen], back: dict[int, Seen], a: int, b: int) -> dict[int, Seen]:
    """Return the subject between two frames on which it was shown: from the nearer of them, and from both where they
    agree for the most.
    """
    out: dict[int, Seen] = {}
    for frame in range(a + 1, b):
        one, other = ahead.get(frame), back.get(frame)
        if one is None or other is None:
            alone = one or other
            if alone is not None:
                out[frame] = alone
            continue
        near, far = (one, other) if frame - a <= b - frame else (other, one)
        share = (near.spots & far.spots).sum() / max((near.spots | far.spots).sum(), 1)
        both = near.spots | far.spots if share > 0.5 else near.spots
        out[frame] = replace(near, spots=both, sure=float(max(near.sure, share)))
    return out
