"""A new shot of a known set in one go, on files: followed, solved, tied to the set by tags or by pictures, aligned,
refined and judged.
"""

import json
from collections.abc import Callable
from dataclasses import dataclass, replace
from pathlib import Path

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import FollowError, TieError
from amberkeel.core.follow.tags import FAMILIES, follow_tags
from amberkeel.core.handoff.document import read_path, solve_document
from amberkeel.core.handoff.formats import FORMATS
from amberkeel.core.handoff.track_table import tracks_csv
from amberkeel.core.plate.plate import Plate, open_plate
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.solve_order import WRITTEN, recipe_of, typed_fps
from amberkeel.core.solve_plate import SolveOrder, followed
from amberkeel.core.ties.align import LEAST, seen_off
from amberkeel.core.ties.from_files import align_document
from amberkeel.core.ties.pictures import found_in
from amberkeel.core.ties.reference import reference_side
from amberkeel.core.ties.refine import Anchored, Refined, anchored_at, refined
from amberkeel.core.ties.set_file import Set, load_set
from amberkeel.core.ties.side import Side, side_of
from amberkeel.core.tracks import EXCLUDED, HAND, TrackSet, beside, from_pieces

TAGS, PICTURES, EITHER = "tags", "pictures", "either"


@dataclass(frozen=True)
class TieOrder:
    """What is tied: how the plate is solved, the set (set.json), by what ("tags", "pictures", "either": pictures where
    too few tags are seen), and whether anchored coordinates are held exactly.
    """

    solve: SolveOrder
    set_file: Path
    by: str = EITHER
    exact: bool = False


@dataclass(frozen=True)
class Tied:
    """A plate tied to a set: what it was tied by, and how it came out."""

    by: str
    refined: Refined
    anchored: list[Anchored]
    tracks: TrackSet
    plate: Plate


def tie_plate(order: TieOrder, progress: Callable[[float, str], None]) -> dict[str, str]:
    """Return the files of a plate tied to a set, by name: solve.json in the set's world, camera.usda, points.csv,
    tracks.csv, and tie.json (docs/ties.md).

    Parameters
    ----------
    order : what is tied. progress : called with the share done.

    Raises
    ------
    KeelError : a file cannot be read, the plate cannot be solved, or too little ties it.
    """
    known = load_set(order.set_file)
    _check(known, order)
    recipe, sensor = recipe_of(order.solve, open_plate(order.solve.plate, order.solve.frames, order.solve.encoding))
    tied = tied_to(known, order, recipe, progress)
    one, change = tied.refined, tied.refined.alignment.change
    fps = typed_fps(order.solve, tied.plate)
    document = solve_document(one.solution, change, tied.plate.name, f"{fps.numerator}/{fps.denominator}")
    files = {name: FORMATS[name].write(document, sensor) for name in WRITTEN}
    files["tracks.csv"] = tracks_csv(one.solution.tracks)
    files["tie.json"] = json.dumps(_report(known, tied, read_path(document)), indent=1, allow_nan=False) + "\n"
    progress(1.0, "Writing")
    return files


def _check(known: Set, order: TieOrder) -> None:
    if order.by not in (TAGS, PICTURES, EITHER):
        raise TieError(f"There are no ties by “{order.by}”.", f"Choose {TAGS}, {PICTURES} or {EITHER}.")
    if len(known.points) < LEAST and not known.shots:
        raise TieError(
            f"The set {known.name} has {len(known.points)} points and no shot.", "It needs three points to tie to."
        )


def tied_to(known: Set, order: TieOrder, recipe: Recipe, progress: Progress) -> Tied:
    """Return a plate followed, solved and tied to a set.

    Parameters
    ----------
    known : the set. order : what is tied. recipe : of the solve. progress : called with the share done.
    """
    plate, tracks = followed(order.solve, span(progress, 0.0, 0.35))
    tags = _tags(known, plate, span(progress, 0.35, 0.45)) if order.by != PICTURES else None
    whole = beside(tracks, tags) if tags is not None and len(tags) else tracks
    solution = solve_tracks(whole, plate.frames, plate.width, plate.height, recipe, span(progress, 0.45, 0.7))
    anchored = _by_name(known, solution)
    by = TAGS
    if order.by == PICTURES or order.by == EITHER and len(anchored) < LEAST:
        reference = reference_side(known, order.set_file)
        if reference is None:
            raise TieError(
                f"{len(anchored)} points of the set {known.name} are seen by name, and it names no shot to look at.",
                "Put tags of the set into the picture, or give the set a reference shot with its plate.",
            )
        by, name = PICTURES, reference[0]
        whole, solution, anchored = _by_pictures(
            reference[1], name, side_of(plate, solution), solution, anchored, span(progress, 0.7, 0.85)
        )
    if len(anchored) < LEAST:
        seen = ", ".join(one.name for one in anchored) or "none"
        raise TieError(
            f"{len(anchored)} points of the set {known.name} are seen in {plate.name}: {seen}.",
            "Three are needed. Tie it by pictures, or by hand.",
        )
    return Tied(by, refined(solution, anchored, order.exact, span(progress, 0.85, 0.98)), anchored, whole, plate)


def _tags(known: Set, plate: Plate, progress: Progress) -> TrackSet | None:
    """Return the tags of the set's families on a plate, those the set has points of."""
    families = sorted({one.name.rpartition("-")[0] for one in known.points} & set(FAMILIES))
    if not families:
        return None
    found: TrackSet | None = None
    for family in families:
        try:
            tracks, _ = follow_tags(plate, family, True, progress)
        except FollowError:
            continue
        own = tracks.take(np.array([known.point(name) is not None for name in tracks.names], bool))
        found = own if found is None else beside(found, own)
    return found


def _by_name(known: Set, solution: Solution) -> list[Anchored]:
    """Return what a set knows of tracks that have a point's name."""
    used = solution.points.known & ~solution.tracks.in_state(EXCLUDED)
    rows = zip(solution.tracks.ids[used].tolist(), np.array(solution.tracks.names)[used].tolist())
    return [one for track, name in rows if (one := anchored_at(track, name, known)) is not None]


def _by_pictures(
    fixed: Side, name: str, own: Side, solution: Solution, anchored: list[Anchored], progress: Progress
) -> tuple[TrackSet, Solution, list[Anchored]]:
    """Return a shot with the spots of the reference that are found in its pictures as tracks, solved with them, and
    what is known of those and of what was tied before.
    """
    found = found_in(own, fixed, progress=span(progress, 0.0, 0.6))
    names = [f"{name}/{fixed.tracks.names[f.track]}" for f in found]
    spots = from_pieces(names, [(f.frames, f.xy, f.sigma, f.score) for f in found], [HAND] * len(found))
    whole = beside(solution.tracks, spots)
    recipe = replace(solution.recipe, begin=solution.path, motion=solution.motion)
    lens = solution.path.lens
    again = solve_tracks(whole, solution.path.frames, lens.width, lens.height, recipe, span(progress, 0.6, 1.0))
    again = replace(again, recipe=replace(again.recipe, begin=None))
    row = {n: k for k, n in enumerate(whole.names)}
    more = []
    for one, f in zip(names, found):
        k = row[one]
        if again.points.known[k] and again.tracks.states[k] != EXCLUDED:
            sigma = np.sqrt(np.maximum(np.diagonal(fixed.covariance[f.track]), 0.0))
            more.append(Anchored(int(whole.ids[k]), one, fixed.xyz[f.track], np.nan_to_num(sigma)))
    return whole, again, [*anchored, *more]


def _report(known: Set, tied: Tied, path: CameraPath) -> dict:
    """Return what is said of a plate tied to a set, ready for JSON."""
    one = tied.refined
    px = seen_off(path, one.ties, one.alignment.change)
    document = align_document(one.ties, one.alignment, px)
    return {
        **document,
        "format": "amberkeel-tie",
        "set": known.name,
        "by": tied.by,
        "frozen": known.frozen,
        "unit": "m" if known.metric else "units",
        "rms_px": {"before": one.rms[0], "after": one.rms[1]},
        "check_rms_px": {"before": one.check[0], "after": one.check[1]},
        "pulls": [{"name": name, "px": px} for name, px in one.pulls],
    }
