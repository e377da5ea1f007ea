"""The one door for user edits: each is recorded with its inverse, which gives undo, redo and the history."""

from collections.abc import Callable
from dataclasses import dataclass

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from amberkeel.core.errors import KeelError
from amberkeel.store.edits import bodies, evidence, lens, masks, plate, scene, solve, ties, tracks, trials, world
from amberkeel.store.edits.touched import Touched, agree, touched
from amberkeel.store.held import count_change, hold_shot
from amberkeel.store.models import Attempt, Edit, Shot
from amberkeel.store.session import actor
from amberkeel.store.typed import Typed, read_typed


class StaleEdit(KeelError):
    """Someone changed the shot since the page was drawn."""

    def __init__(self):
        super().__init__(
            "This shot has changed since you opened it.", "The page shows the newest state now; do it again there."
        )


@dataclass(frozen=True)
class EditKind:
    """A kind of edit: the model of its payload, and what makes it, which returns the inverse payload and a label."""

    payload: type[Typed]
    make: Callable[[Session, Shot, dict], tuple[dict, str]]


def _back(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    """Go back to an attempt, or on again; payload: {"attempt": id, "steps": [[kind, payload], ...]}."""
    done = _steps(session, shot, payload["steps"])
    number = session.get(Attempt, payload["attempt"]).number
    return {"attempt": payload["attempt"], "steps": done}, f"Back to what attempt {number} was made from"


def _steps(session: Session, shot: Shot, steps: list) -> list:
    """Make edits in their order; return those that take them back, in theirs."""
    return [(kind, KINDS[kind].make(session, shot, step)[0]) for kind, step in steps][::-1]


def _keep(session: Session, shot: Shot, payload: dict) -> tuple[dict, str]:
    return trials.keep(session, shot, payload, _steps)


KINDS = {
    "copy": EditKind(plate.Copy, plate.copy),
    "named": EditKind(plate.Named, plate.named),
    "files": EditKind(plate.Files, plate.files),
    "mask": EditKind(masks.MaskValues, masks.mask),
    "masks": EditKind(masks.Masks, masks.masks),
    "states": EditKind(tracks.States, tracks.states),
    "tracks": EditKind(tracks.Removed, tracks.removed),
    "cut": EditKind(tracks.Cut, tracks.cut),
    "samples": EditKind(tracks.Samples, tracks.samples),
    "lens": EditKind(lens.LensValues, lens.lens),
    "profile": EditKind(lens.ProfileValues, lens.profile),
    "pin": EditKind(solve.Pin, solve.pin),
    "attempt": EditKind(solve.Called, solve.called),
    "back": EditKind(solve.Back, _back),
    "keep": EditKind(trials.Keep, _keep),
    "drop": EditKind(trials.Drop, trials.drop),
    "constraints": EditKind(evidence.Constraints, evidence.constraints),
    "datum": EditKind(world.Datum, world.datum),
    "scene": EditKind(scene.Scene, scene.scene),
    "ties": EditKind(ties.Ties, ties.ties),
    "bodies": EditKind(bodies.Bodies, bodies.bodies),
}
"""An edit of a new kind is a model and a function in its stage's file, and a line here."""


def _locked(session: Session, shot_id: int) -> Shot:
    shot = hold_shot(session, shot_id)
    if shot is None or shot.deleted:
        raise KeelError("There is no such shot, or it was deleted.")
    return shot


def apply(session: Session, shot_id: int, kind: str, payload: dict, revision: int | None = None) -> Edit:
    """Make an edit and record it. Raises StaleEdit when the shot is past the `revision` the user saw, and what was
    changed since touches what this edit touches.
    """
    shot = _locked(session, shot_id)
    if kind not in KINDS:
        raise KeelError(f"There is no edit “{kind}”.")
    payload = read_typed(KINDS[kind].payload, payload, f"Edit {kind}").model_dump(exclude_unset=True)
    if revision is not None and revision != shot.revision:
        _check_apart(session, shot, touched(kind, payload), revision)
    inverse, label = KINDS[kind].make(session, shot, payload)
    session.execute(delete(Edit).where(Edit.shot_id == shot_id, Edit.undone))
    edit = Edit(shot_id=shot_id, kind=kind, label=label, payload=payload, inverse=inverse, who=actor.get())
    session.add(edit)
    edit.revision = count_change(session, shot)
    session.flush()
    return edit


def _check_apart(session: Session, shot: Shot, own: Touched, seen: int) -> None:
    """Raise StaleEdit unless all that was done since a revision are edits that touch other things than this one."""
    since = session.scalars(select(Edit).where(Edit.shot_id == shot.id, Edit.revision > seen)).all()
    # Each revision since must be that of an edit that is there: what else was changed, nobody can tell.
    told = {edit.revision for edit in since} == set(range(seen + 1, shot.revision + 1))
    if not told or not all(agree(own, touched(e.kind, e.payload)) for e in since):
        raise StaleEdit()


def go_back(session: Session, shot_id: int, attempt: int, revision: int | None = None) -> Edit:
    """Bring everything back as it was when an attempt was pinned first, as one edit that can be undone.

    Parameters
    ----------
    session : open. shot_id : of the shot. attempt : id, in its ledger. revision : of the shot that the user saw.

    Raises
    ------
    KeelError : the attempt was never pinned, or nothing has changed since.
    """
    live = select(Edit).where(Edit.shot_id == shot_id, ~Edit.undone)
    pins = live.where(Edit.kind == "pin", Edit.payload["attempt"].as_integer() == attempt)
    made = session.scalar(pins.order_by(Edit.id).limit(1))
    if made is None:
        raise KeelError("The history no longer reaches back to that attempt.", "Pin it instead.")
    since = session.scalars(live.where(Edit.id > made.id).order_by(Edit.id.desc()))
    steps = [(edit.kind, edit.inverse) for edit in since if edit.kind != "attempt"]
    if not steps:
        raise KeelError("Everything is still as that attempt was made from.")
    return apply(session, shot_id, "back", {"attempt": attempt, "steps": steps}, revision)


def undo(session: Session, shot_id: int, revision: int | None = None) -> str:
    """Take the newest edit back; return its label. Raises StaleEdit when the shot is past the `revision` the user
    saw: the newest edit is another one then.
    """
    return _step(session, shot_id, True, revision)


def redo(session: Session, shot_id: int, revision: int | None = None) -> str:
    """Make the edit undone last again; return its label. Raises StaleEdit as `undo` does."""
    return _step(session, shot_id, False, revision)


def _step(session: Session, shot_id: int, back: bool, revision: int | None) -> str:
    """Go one edit back or on in the shot's history."""
    shot = _locked(session, shot_id)
    if revision is not None and revision != shot.revision:
        raise StaleEdit()
    order = Edit.id.desc() if back else Edit.id
    edit = session.scalar(select(Edit).where(Edit.shot_id == shot_id, Edit.undone != back).order_by(order).limit(1))
    if edit is None:
        raise KeelError(f"There is nothing to {'undo' if back else 'redo'}.")
    _turn(session, shot, edit)
    edit.revision = count_change(session, shot)
    return edit.label


def _turn(session: Session, shot: Shot, edit: Edit) -> None:
    """Undo an edit, or make it again where it was undone."""
    KINDS[edit.kind].make(session, shot, edit.payload if edit.undone else edit.inverse)
    edit.undone = not edit.undone


def go_to(session: Session, shot_id: int, edit: int, revision: int | None = None) -> int:
    """Undo or redo until an edit of the shot is the newest one in force; 0 stands for before the first.

    Returns
    -------
    How many steps that took.

    Raises
    ------
    StaleEdit : as `undo` does. KeelError : there is no such edit, or the shot stands there already.
    """
    shot = _locked(session, shot_id)
    if revision is not None and revision != shot.revision:
        raise StaleEdit()
    own = select(Edit).where(Edit.shot_id == shot_id)
    if edit and session.scalar(own.where(Edit.id == edit)) is None:
        raise KeelError("The history no longer holds that step.")
    later = session.scalars(own.where(Edit.id > edit, ~Edit.undone).order_by(Edit.id.desc()))
    earlier = session.scalars(own.where(Edit.id <= edit, Edit.undone).order_by(Edit.id))
    steps = [*later, *earlier]
    if not steps:
        raise KeelError("The shot stands there already.")
    revision = count_change(session, shot)
    for step in steps:
        _turn(session, shot, step)
        step.revision = revision
    return len(steps)


def next_steps(session: Session, shot_id: int) -> tuple[str | None, str | None]:
    """Return what undo would take back and what redo would make again, by their labels."""
    own = select(Edit.label).where(Edit.shot_id == shot_id).limit(1)
    undo = session.scalar(own.where(~Edit.undone).order_by(Edit.id.desc()))
    return undo, session.scalar(own.where(Edit.undone).order_by(Edit.id))


def history(session: Session, shot_id: int, most: int = 40) -> list[Edit]:
    """Return a shot's edits, newest first."""
    return list(session.scalars(select(Edit).where(Edit.shot_id == shot_id).order_by(Edit.id.desc()).limit(most)))
