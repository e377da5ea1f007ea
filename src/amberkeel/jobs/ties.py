"""What the ties stage's jobs do: a shot aligned to its set, ties proposed from pictures, and both in one go."""

from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.errors import TieError
from amberkeel.core.progress import Progress, span
from amberkeel.core.solve.evidence.statement import Anchor, constraint_documents, made_by_tie, read_constraints
from amberkeel.core.solve.shared_lens import solve_shots
from amberkeel.core.solve.solution import Solution
from amberkeel.core.ties.align import LEAST, seen_off
from amberkeel.core.ties.from_files import align_document
from amberkeel.core.ties.pictures import Found, found_in
from amberkeel.core.ties.refine import Anchored, Refined, anchors_of, refined
from amberkeel.core.ties.set_file import Set
from amberkeel.core.ties.side import side_of
from amberkeel.core.tracks import HAND, from_pieces
from amberkeel.core.world.solids import of_mesh
from amberkeel.jobs import solve as solving
from amberkeel.jobs.chain import Arguments, effect
from amberkeel.jobs.images import open_row, plate_row
from amberkeel.settings import Settings
from amberkeel.store.edits import apply
from amberkeel.store.held import hold_shot
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, FilmSet, Shot
from amberkeel.store.scene import keep_mesh
from amberkeel.store.session import session
from amberkeel.store.solve import solution_of, stamps_like, stamps_of, store_attempt
from amberkeel.store.ties import (
    PLACE,
    TIED,
    anchored_by,
    by_name,
    document_of_set,
    families_of,
    grow,
    set_row,
    side_in_set,
    ties_of_shot,
    untied,
)
from amberkeel.store.tracks import add_run
from amberkeel.store.world import pinned_of

MOST_SAMPLES = 12
"""Places of a proposed spot that the page shows."""


class Align(Arguments):
    """Whether the set's coordinates are held exactly instead of within their sigmas."""

    exact: bool = False


def align(settings: Settings, shot_id: int, arguments: Align, progress: Progress) -> None:
    """Bring a shot into its set's world: solved again with its ties as anchored points, another attempt, pinned."""
    media = Media(settings.media)
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        base, row = pinned_of(opened, shot, "a solved shot is aligned"), set_row(opened, shot)
        if row.reference_id == shot.id:
            raise TieError(f"{shot.name} made the set {row.name}: it is not brought to itself.", "Open another shot.")
        document, version = document_of_set(row), row.version
        ties, lost = ties_of_shot(opened, shot)
        stale = base.snapshot.get("tracks_stamp") != shot.tracks_stamp
        stamps = stamps_of(opened, shot) if stale else stamps_like(base, shot.tracks_stamp)
        anchored, base_id, number = anchored_by(ties, document), base.id, row.id
        solution = solution_of(media, base)
    if lost:
        raise TieError(
            f"{len(lost)} ties hold on to a deleted track: {', '.join(lost[:4])}.",
            "Take them out, or undo the deletion.",
        )
    if len(anchored) < LEAST:
        raise TieError(
            f"{len(anchored)} ties cannot align a shot.",
            "Make three at the least, better six, far apart and not on a line.",
        )
    if stale:
        solution = _again(settings, shot_id, solution, base_id, span(progress, 0.0, 0.4))
    solution = without_ties(solution)
    done = refined(solution, anchored, arguments.exact, span(progress, 0.4 if stale else 0.0, 0.95))
    progress(0.96, "Keeping the aligned attempt")
    aligned = Aligned(document, version, number, anchored, done, arguments.exact)
    with effect(settings, shot_id, arguments, _words(document.name, aligned.told)) as opened:
        shot = opened.get(Shot, shot_id)
        attempt = store_attempt(opened, media, shot, done.solution, stamps, base_id)
        if (shot.ties or {}).get("set") != number or ties_of_shot(opened, shot)[0] != ties:
            # What is in use is what the shot's ties say now; what was found stands beside it.
            opened.info["said"] = f"Ties changed meanwhile: attempt {attempt.number} is not pinned. Align again."
            return
        keep_aligned(opened, media, shot, attempt, aligned, f"Align to {document.name}")


@dataclass(frozen=True)
class Aligned:
    """A shot aligned to a set: what the set held, its version and id, the shot's ties, what it came to, and whether it
    was held exactly.
    """

    document: Set
    version: int
    set: int
    anchored: list[Anchored]
    done: Refined
    exact: bool = False

    @property
    def told(self) -> dict:
        """What the alignment says, as the page shows it."""
        return _told(self.done, self.anchored, "m" if self.document.metric else "units")


def keep_aligned(opened, media: Media, shot: Shot, attempt: Attempt, aligned: Aligned, label: str) -> None:
    """Pin an aligned attempt of a shot, with its ties as constraints and what stands in the set, as one edit.

    Parameters
    ----------
    opened, media : where all is kept. shot : that was aligned. attempt : what it came to. aligned : how. label : what
        was done.
    """
    kept = {**aligned.told, "attempt": attempt.id, "version": aligned.version, "set": aligned.set}
    apply(
        opened, shot.id, "ties",
        {
            "ties": {**(shot.ties or {}), "aligned": kept},
            "constraints": _constraints(shot, aligned.anchored, aligned.done, aligned.exact),
            "datum": {}, "scene": _scene(media, shot, aligned.document), "attempt": attempt.id, "label": label,
        },
    )  # fmt: skip


def _again(settings: Settings, shot_id: int, solution: Solution, base: int, progress: Progress) -> Solution:
    """Return the shot solved from its tracks as they are now, begun where the pinned attempt stands."""
    order = solving.Solve(motion=solution.motion, begin=base, zoom=solution.recipe.zoom)
    shot, _ = solving.to_solve(settings, shot_id, order, ties=False)
    return solve_shots([shot], progress)[0]


def without_ties(solution: Solution) -> Solution:
    """Return a solution whose recipe no longer says what ties said before."""
    others = tuple(one for one in solution.recipe.evidence if not made_by_tie(one))
    return replace(solution, recipe=replace(solution.recipe, evidence=others))


def _told(done: Refined, anchored: list[Anchored], unit: str) -> dict:
    """Return what an alignment says, as the page shows it."""
    ties = done.ties
    path = done.alignment.change.camera(done.solution.path)
    document = align_document(ties, done.alignment, seen_off(path, ties, done.alignment.change))
    pulls = dict(done.pulls)
    return {
        "rms": document["rms"], "unit": unit, "spread": document["spread"],
        "notes": list(dict.fromkeys(document["notes"])),
        "ties": {one["name"]: {**one, "pulls": pulls.get(one["name"])} for one in document["ties"]},
        "rms_px": list(done.rms), "check_px": list(done.check), "count": len(anchored),
    }  # fmt: skip


def _words(name: str, told: dict) -> str:
    used = sum(not one["wrong"] for one in told["ties"].values())
    size = f"{1000 * told['rms']:.1f} mm" if told["unit"] == "m" else f"{told['rms']:.3g} units"
    return f"In the world of {name} by {used} ties, {size} off"


def _constraints(shot: Shot, anchored: list[Anchored], done: Refined, exact: bool) -> list[dict]:
    """Return a shot's constraints with its ties in place of those it had: the next solve lands in the set too."""
    wrong = {name for name, one in zip(done.ties.names, done.alignment.wrong) if one}
    anchors: list[Anchor] = anchors_of([one for one in anchored if one.name not in wrong], done.alignment, exact)
    made = [one.model_copy(update={"name": f"{TIED}{one.name}", "tie": True}) for one in anchors]
    return constraint_documents(read_constraints([*untied(shot), *constraint_documents(made)]))


def _scene(media: Media, shot: Shot, document: Set) -> dict:
    """Return what stands in a shot with the set's proxies and probe objects among it, as the set has them."""
    scene = shot.scene or {}
    out = {**scene}
    for part in ("proxies", "probes"):
        own = {name: one for name, one in scene.get(part, {}).items() if not name.startswith(PLACE)}
        of_set = {}
        for name, thing in getattr(document, part).items():
            kept = thing.model_dump(mode="json", exclude_defaults=True) | {"kind": thing.kind}
            if thing.kind == "mesh":
                triangles = document.meshes.get(name)
                if triangles is None:
                    continue
                solid = of_mesh(np.array(triangles.vertices), np.array(triangles.faces, np.int64))
                kept["mesh"] = keep_mesh(media, solid)
            of_set[f"{PLACE}{name}"] = kept
        out[part] = {**own, **of_set}
    return out


def pictures(settings: Settings, shot_id: int, arguments: Arguments, progress: Progress) -> None:
    """Propose ties from the pictures of this shot and of that which made the set."""
    rows = _proposals(settings, shot_id, progress)
    said = f"{len(rows)} spots of the reference found in this shot"
    with effect(settings, shot_id, arguments, said) as opened:
        shot = opened.get(Shot, shot_id)
        kept = {**(shot.ties or {}), "proposed": {one["name"]: one for one in rows}}
        apply(opened, shot_id, "ties", {"ties": kept, "label": f"Propose {len(rows)} ties from pictures"})


def _proposals(settings: Settings, shot_id: int, progress: Progress) -> list[dict]:
    """Return spots of the reference that are found in a shot and not tied yet, as they are kept."""
    media, plate = Media(settings.media), open_row(plate_row(settings, shot_id))
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        row, base = set_row(opened, shot), pinned_of(opened, shot, "ties are verified by its camera")
        if row.reference_id is None or row.reference_id == shot.id:
            raise TieError(
                f"No other shot made the set {row.name}, so there are no pictures to look at.",
                "Tie by tags or by hand, or choose a set that a shot made.",
            )
        reference = opened.get(Shot, row.reference_id)
        made = opened.get(Attempt, row.reference_attempt)
        if reference is None or reference.deleted or made is None:
            raise TieError(f"The reference shot of {row.name} was deleted.", "Tie by tags or by hand; the set is kept.")
        own = side_of(plate, solution_of(media, base))
        fixed = side_in_set(opened, media, reference, made, open_row(reference.plate))
        tied = {one.point for one in ties_of_shot(opened, shot)[0]}
    found = found_in(own, fixed, progress=span(progress, 0.0, 0.95))
    rows = [_proposal(one, fixed.tracks.names[one.track]) for one in found]
    return [one for one in rows if one["name"] not in tied]


def _proposal(one: Found, name: str) -> dict:
    """Return a spot that was found as it is kept until it is taken or dropped."""
    best = int(np.argmax(one.score))
    return {
        "name": name, "frames": one.frames.tolist(), "x": one.xy[:, 0].round(3).tolist(),
        "y": one.xy[:, 1].round(3).tolist(), "sigma": one.sigma.round(4).tolist(), "score": one.score.round(3).tolist(),
        "rms": round(one.located.rms, 3), "frame": int(one.frames[best]), "xy": one.xy[best].round(2).tolist(),
        "fixed_frame": one.fixed_frame, "fixed_xy": np.asarray(one.fixed_xy).round(2).tolist(),
    }  # fmt: skip


def tie(settings: Settings, shot_id: int, arguments: Align, progress: Progress) -> None:
    """Tie a solved shot to its set in one go: by names, by pictures where those are too few, and align it."""
    with session(settings.database) as opened:
        shot = hold_shot(opened, shot_id)
        document = document_of_set(set_row(opened, shot))
        named = by_name(opened, shot, document)
        if named:
            kept = {**(shot.ties or {}), "ties": {**(shot.ties or {}).get("ties", {}), **named}}
            apply(opened, shot_id, "ties", {"ties": kept, "label": f"Tie {len(named)} by name"})
        enough = len(anchored_by(ties_of_shot(opened, shot)[0], document)) >= LEAST
    if not enough:
        proposed = _proposals(settings, shot_id, span(progress, 0.0, 0.5))
        with session(settings.database) as opened:
            take(opened, Media(settings.media), hold_shot(opened, shot_id), proposed)
    align(settings, shot_id, arguments, span(progress, 0.0 if enough else 0.5, 1.0))


def in_one_go(document: Set, solved: bool) -> list[str]:
    """Return the kinds of the jobs that bring a shot into its set's world, in their order.

    Parameters
    ----------
    document : the set. solved : whether the shot is solved already; otherwise what moves is masked, and features are
        followed first.
    """
    before = [] if solved else ["propose", "accept", "follow"]
    if families_of(document):
        return [*before, "tags", "solve", "tie"]
    return [*before, *([] if solved else ["solve"]), "tie"]


def take(opened, media: Media, shot: Shot, chosen: list[dict], by: str = "pictures") -> list[int]:
    """Take found spots as ties: each becomes a track of the shot, and a point of the set where it is none yet; return
    the tracks' ids.

    Parameters
    ----------
    opened, media : where all is kept. shot : that is tied. chosen : proposals, as `_proposal` has them. by : "pictures"
        or "hand", of which the frames are keys.
    """
    row: FilmSet = set_row(opened, shot)
    reference = opened.get(Shot, row.reference_id)
    made = opened.get(Attempt, row.reference_attempt)
    grow(opened, media, row, reference, made, [one["name"] for one in chosen])
    document = document_of_set(row)
    lost = [one["name"] for one in chosen if document.point(one["name"]) is None]
    if lost:
        raise TieError(f"{lost[0]} has no point in {reference.name}.", "Choose a spot that served in its solve.")
    stem = reference.name.split()[0]
    names = [f"{stem} {one['name']}"[:80] for one in chosen]
    pieces = [(one["frames"], np.stack([one["x"], one["y"]], 1), one["sigma"], one["score"]) for one in chosen]
    tracks = from_pieces(names, pieces, [HAND] * len(chosen))
    keys = [list(map(int, one["frames"])) for one in chosen] if by == "hand" else None
    ids = add_run(opened, shot, tracks, {"images": "plate", "tie": True}, keys)
    ties = {
        f"t{track}": {"track": track, "point": one["name"], "by": by, "on": True} for track, one in zip(ids, chosen)
    }
    kept = shot.ties or {}
    left = {name: one for name, one in kept.get("proposed", {}).items() if name not in {c["name"] for c in chosen}}
    whole = {**kept, "ties": {**kept.get("ties", {}), **ties}, "proposed": left}
    label = f"Tie {names[0]} by hand" if by == "hand" else f"Take {len(ids)} ties from pictures"
    apply(opened, shot.id, "ties", {"ties": whole, "bring": ids, "label": label})
    return ids
