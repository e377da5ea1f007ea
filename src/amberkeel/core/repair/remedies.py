"""What remedies do: each takes a solution to tracks and a recipe to solve again, or to another solution at once.

A remedy is a function here and a line in `REMEDIES`.
"""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial import cKDTree

from amberkeel.core.diagnose.finding import Remedy
from amberkeel.core.errors import SolveError
from amberkeel.core.follow import follow_plate
from amberkeel.core.follow.detect import DetectSettings
from amberkeel.core.follow.follow import FollowSettings
from amberkeel.core.plate.plate import Plate
from amberkeel.core.progress import Progress, silent, span
from amberkeel.core.repair.again import measured_again
from amberkeel.core.repair.compare import SURELY_BETTER, compare
from amberkeel.core.repair.led import Masked
from amberkeel.core.repair.limit import STEPS, Limit, OverLimit, down, over_limit
from amberkeel.core.repair.smooth import POSITION, bridged, smoothed
from amberkeel.core.repair.through_blur import through_blur
from amberkeel.core.solve.lens_plan import FREE, LensChoice
from amberkeel.core.solve.recipe import AUTO_ROWS, Recipe
from amberkeel.core.solve.rows import TRIED
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.tracks import ACTIVE, CHECK, EXCLUDED, TrackSet, from_pieces

LESS = 4.0
"""By what factor the noise of measurements that shall count less is raised."""

LEFT = 2
"""Measurements that a track must keep."""

BLUR_ROUNDS = 2
"""Rounds of measuring through blur and solving."""

MORE = 2.0
"""How many times as many features are looked for where more are wanted."""

NEW_NAME = "n"
"""What names of tracks that a remedy adds begin with."""

ADDED_SPACING = 0.5
"""Distance to a track that there is, in the spacing of features, below which a new one adds nothing."""


@dataclass(frozen=True)
class Ground:
    """What a remedy works on.

    Attributes
    ----------
    solution : solved. frames : (F,) numbers to solve. plate : its pictures, None where they are not at hand. masked :
        from a frame number to (H, W) bool, True where nothing may be followed.
    """

    solution: Solution
    frames: np.ndarray
    plate: Plate | None = None
    masked: Masked = None

    @property
    def tracks(self) -> TrackSet:
        """The tracks as they were before the solve set any aside."""
        own = self.solution.tracks
        states = [
            ACTIVE if s == EXCLUDED and int(i) in self.solution.reasons else s for s, i in zip(own.states, own.ids)
        ]
        return replace(own, states=states)

    @property
    def recipe(self) -> Recipe:
        """The recipe of a refinement of the solution."""
        return replace(self.solution.recipe, begin=self.solution.path, within=None)

    def solved(self, tracks: TrackSet, recipe: Recipe, progress: Progress = silent) -> Solution:
        """Return tracks solved by a recipe over this ground's frames."""
        lens = self.solution.path.lens
        return solve_tracks(tracks, self.frames, lens.width, lens.height, recipe, progress)

    def pictures(self) -> Plate:
        """Return the plate; raises SolveError where it is not at hand."""
        if self.plate is None:
            raise SolveError("This remedy needs the plate's pictures.", "Give the plate, or connect it again.")
        return self.plate


@dataclass(frozen=True)
class Outcome:
    """What a remedy came to: an attempt, and what proves it besides the check tracks, in words, if anything does."""

    solution: Solution
    proof: str = ""


Carried = Callable[[Ground, Remedy, Progress], Outcome]


def _exclude(ground: Ground, remedy: Remedy, progress: Progress) -> Outcome:
    tracks = ground.tracks
    gone = np.isin(tracks.ids, remedy.tracks)
    states = [EXCLUDED if g else s for g, s in zip(gone, tracks.states)]
    return Outcome(ground.solved(replace(tracks, states=states), ground.recipe, progress))


def _cut(ground: Ground, remedy: Remedy, progress: Progress) -> Outcome:
    return Outcome(ground.solved(without(ground.tracks, remedy.cuts), ground.recipe, progress))


def without(tracks: TrackSet, cuts: tuple[tuple[int, int, int], ...]) -> TrackSet:
    """Return tracks without stretches; a track left with less than `LEFT` measurements is excluded and keeps them.

    Parameters
    ----------
    cuts : a track's id, and the first and last frame that it loses.
    """
    gone = np.zeros(len(tracks.frames), bool)
    owner = tracks.ids[tracks.track_of_sample]
    for number, first, last in cuts:
        gone |= (owner == number) & (tracks.frames >= first) & (tracks.frames <= last)
    left = np.bincount(tracks.track_of_sample[~gone], minlength=len(tracks))
    lost = (left < LEFT) & (tracks.lengths >= LEFT)
    gone &= ~lost[tracks.track_of_sample]
    kept = ~gone
    counts = np.bincount(tracks.track_of_sample[kept], minlength=len(tracks))
    return replace(
        tracks, first=np.concatenate([[0], np.cumsum(counts)]).astype(np.int64), frames=tracks.frames[kept],
        xy=tracks.xy[kept], sigma=tracks.sigma[kept], score=tracks.score[kept],
        states=[EXCLUDED if gone_ else s for gone_, s in zip(lost, tracks.states)],
    )  # fmt: skip


def _down_weight(ground: Ground, remedy: Remedy, progress: Progress) -> Outcome:
    tracks = ground.tracks
    sigma = np.where(np.isin(tracks.frames, remedy.frames), LESS * tracks.sigma, tracks.sigma)
    return Outcome(ground.solved(replace(tracks, sigma=sigma), ground.recipe, progress))


def _through_blur(ground: Ground, _remedy: Remedy, progress: Progress) -> Outcome:
    """Measure blurred frames anew, twice: the second time from a path that the first has unbent."""
    plate, out, proof = ground.pictures(), ground, ""
    for k in range(BLUR_ROUNDS):
        step = span(progress, k / BLUR_ROUNDS, (k + 1) / BLUR_ROUNDS)
        anew = through_blur(plate, out.solution, ground.masked, span(step, 0.0, 0.85))
        if anew is None:
            break
        proof = proof or (
            f"The pictures themselves tell: drawn over a shutter open for {100 * anew.shutter:.0f} % of the frame, "
            f"patches on {len(anew.frames)} frames match better ({anew.gain:.2f} in log likelihood a pixel)."
        )
        tracks = replace(anew.tracks, states=out.tracks.states)
        out = replace(out, solution=out.solved(tracks, out.recipe, span(step, 0.85, 1.0)))
    if not proof:
        raise SolveError("No frame is blurred by the camera's motion.", "Nothing was changed.")
    return Outcome(out.solution, proof)


def _again(ground: Ground, remedy: Remedy, progress: Progress) -> Outcome:
    anew = measured_again(ground.pictures(), ground.solution, remedy.frames, ground.masked, span(progress, 0.0, 0.7))
    tracks = replace(anew, states=ground.tracks.states)
    return Outcome(ground.solved(tracks, ground.recipe, span(progress, 0.7, 1.0)))


def _distortion(ground: Ground, _remedy: Remedy, progress: Progress) -> Outcome:
    return Outcome(ground.solved(ground.tracks, replace(ground.recipe, distortion="estimate", begin=None), progress))


def _centre(ground: Ground, _remedy: Remedy, progress: Progress) -> Outcome:
    lens = {**ground.recipe.lens, "cx": LensChoice(FREE), "cy": LensChoice(FREE)}
    return Outcome(ground.solved(ground.tracks, replace(ground.recipe, lens=lens), progress))


def _focal(ground: Ground, _remedy: Remedy, progress: Progress) -> Outcome:
    lens = {name: choice for name, choice in ground.recipe.lens.items() if name != "focal"}
    recipe = replace(ground.recipe, lens=lens, focal_px=None, begin=None)
    return Outcome(ground.solved(ground.tracks, recipe, progress))


def _zoom(ground: Ground, _remedy: Remedy, progress: Progress) -> Outcome:
    return Outcome(ground.solved(ground.tracks, replace(ground.recipe, zoom=True, begin=None, motion="auto"), progress))


def _rows(ground: Ground, _remedy: Remedy, progress: Progress) -> Outcome:
    begin = replace(ground.solution.path, readout=TRIED)
    recipe = replace(ground.recipe, rows=AUTO_ROWS, readout=None, readout_sigma=0.0, begin=begin)
    return Outcome(ground.solved(ground.tracks, recipe, progress))


def _motion(ground: Ground, remedy: Remedy, progress: Progress) -> Outcome:
    return Outcome(ground.solved(ground.tracks, replace(ground.recipe, motion=remedy.word, begin=None), progress))


def _limit(ground: Ground, remedy: Remedy, progress: Progress) -> Outcome:
    value, unit, least = (remedy.word.split() + ["sigma", "0"])[:3]
    return Outcome(_without_over(ground, over_limit(ground.solution, Limit(float(value), unit, int(least))), progress))


def _without_over(ground: Ground, over: OverLimit, progress: Progress = silent) -> Solution:
    tracks = without(ground.tracks, over.cuts)
    gone = np.isin(tracks.ids, over.tracks)
    states = [EXCLUDED if g else s for g, s in zip(gone, tracks.states)]
    return ground.solved(replace(tracks, states=states), ground.recipe, progress)


def _limit_down(ground: Ground, _remedy: Remedy, progress: Progress) -> Outcome:
    """Lower the limit as long as tracks gain that are withheld, or left out in turn, and stop there."""
    done, own = [0], ground.solution
    judges = "withheld" if CHECK in own.tracks.states else "left-out"
    if judges == "left-out" and own.folds is None:
        raise SolveError(
            "Nothing can judge a limit here: no track is withheld, and they are too few to leave any out.",
            "Place eight tracks or more, or cut by hand.",
        )

    def solved(best: Solution, over: OverLimit) -> Solution:
        progress(min(done[0] / len(STEPS), 1.0), f"Cutting {over.measurements} measurements, step {done[0] + 1}")
        done[0] += 1
        return _without_over(replace(ground, solution=best), over)

    best, reached = down(ground.solution, solved, lambda a, b: compare(a, b).sigmas < -SURELY_BETTER)
    if not reached:
        raise SolveError(
            f"No limit makes {judges} tracks fit better.", "What is left is noise, or it is not the tracks."
        )
    return Outcome(best, f"The limit went down to {reached:g} sigma; below that {judges} tracks gain nothing more.")


def _release(ground: Ground, remedy: Remedy, progress: Progress) -> Outcome:
    evidence = tuple(
        one.model_copy(update={"on": False}) if one.name == remedy.word else one for one in ground.recipe.evidence
    )
    return Outcome(ground.solved(ground.tracks, replace(ground.recipe, evidence=evidence), progress))


def _add(ground: Ground, remedy: Remedy, progress: Progress) -> Outcome:
    """Follow more features over the whole plate and add those that lie where no track is; of a remedy with frames only
    those that live on any of them.
    """
    plate, tracks = ground.pictures(), ground.tracks
    detect = DetectSettings()
    more = DetectSettings(count=int(MORE * detect.count))
    found = follow_plate(plate, FollowSettings(detect=more), ground.masked, span(progress, 0.0, 0.7))
    new = added(tracks, found, ADDED_SPACING * more.spacing_px(plate.width, plate.height), remedy.frames)
    return Outcome(ground.solved(new, ground.recipe, span(progress, 0.7, 1.0)))


def added(tracks: TrackSet, found: TrackSet, spacing: float, frames: tuple[int, ...] = ()) -> TrackSet:
    """Return tracks with further ones added, under new names and ids, those left away that run beside one that there
    is.

    Parameters
    ----------
    tracks, found : of one plate. spacing : pixels. frames : that an added track must live on one of; none: any.
    """
    beside = np.zeros(len(found.frames), bool)
    for frame in np.unique(found.frames):
        own, there = np.nonzero(found.frames == frame)[0], tracks.frames == frame
        if there.any():
            beside[own] = cKDTree(tracks.xy[there]).query(found.xy[own])[0] < spacing
    share = np.bincount(found.track_of_sample, beside, len(found)) / np.maximum(found.lengths, 1)
    wanted = np.ones(len(found), bool)
    if frames:
        wanted = np.bincount(found.track_of_sample, np.isin(found.frames, frames), len(found)) > 0
    chosen = np.nonzero((share < 0.5) & wanted)[0]
    taken, names = set(tracks.names), []
    for k in range(len(chosen)):
        name = f"{NEW_NAME}{k + 1:04d}"
        while name in taken:
            name += "b"
        names.append(name)
    sets = [(tracks, range(len(tracks))), (found, chosen.tolist())]
    pieces = [(s.frames[r], s.xy[r], s.sigma[r], s.score[r]) for s, rows in sets for r in map(s.rows, rows)]
    ids = np.concatenate([tracks.ids, tracks.ids.max(initial=0) + 1 + np.arange(len(chosen))])
    return from_pieces(
        [*tracks.names, *names], pieces, [*tracks.kinds, *(found.kinds[t] for t in chosen)],
        [*tracks.states, *[ACTIVE] * len(chosen)], ids,
    )  # fmt: skip


def _bridge(ground: Ground, remedy: Remedy, _progress: Progress) -> Outcome:
    return Outcome(bridged(ground.solution, remedy.frames, remedy.word or POSITION))


def _smooth(ground: Ground, remedy: Remedy, _progress: Progress) -> Outcome:
    return Outcome(smoothed(ground.solution, float(remedy.word or 1.5), remedy.frames or None))


REMEDIES: dict[str, Carried] = {
    "exclude": _exclude,
    "cut": _cut,
    "down-weight": _down_weight,
    "through-blur": _through_blur,
    "again": _again,
    "distortion": _distortion,
    "centre": _centre,
    "focal": _focal,
    "zoom": _zoom,
    "rows": _rows,
    "motion": _motion,
    "limit": _limit,
    "limit-down": _limit_down,
    "release": _release,
    "add": _add,
    "bridge": _bridge,
    "smooth": _smooth,
}
"""What carries out each remedy, by its code."""

ADVICE = "advice"
"""Code of a remedy that only a person can carry out."""


def carry_out(ground: Ground, remedy: Remedy, progress: Progress = silent) -> Outcome:
    """Return what a remedy makes of a solution.

    Parameters
    ----------
    ground : what it works on. remedy : what is tried. progress : called with the share done.

    Raises
    ------
    SolveError : there is no such remedy, it needs pictures that are not at hand, or it leads to no camera.
    """
    if remedy.code not in REMEDIES:
        raise SolveError(f"“{remedy.words}” is advice for a person, not something to try.")
    return REMEDIES[remedy.code](ground, remedy, progress)
