"""The one way to change a shot: it is held first, so that all that is read of it afterwards is as it stands.

Whoever changes a shot, or a row that belongs to it, opens it with `hold_shot`: its row is locked until the transaction
ends, and everything that the session had loaded before is read anew. What is then worked out from the shot is worked
out from the newest state, and nobody else changes it before that is written. A session refuses to write a row of a
shot that it does not hold (`_guard`), so no other way can creep in.
"""

from collections.abc import Iterable
from typing import TypeVar

from sqlalchemy import event, select
from sqlalchemy.orm import ORMExecuteState, Session, SessionTransaction

from amberkeel.store.models import (
    Attempt,
    FilmSet,
    LensProfile,
    Mask,
    Package,
    Plate,
    Proposal,
    Review,
    Shot,
    Track,
    Trial,
)

_HELD, _COUNTED, _CHANGED, _FREE, _NEW = "held", "counted", "changed", "free", "new"
"""Keys of a session's ``info``: the numbers of the shots that its transaction holds, of those whose revision it has
raised, and of those that it has changed, whether it may write rows of any shot, and which shots it has made.
"""

_OF_A_SHOT = (Attempt, Mask, Package, Plate, Proposal, Review, Track, Trial)


R = TypeVar("R", FilmSet, LensProfile)


class NotHeld(RuntimeError):
    """A row of a shot was about to be written by a transaction that does not hold the shot: a fault of the program."""


def hold_shot(session: Session, number: int) -> Shot | None:
    """Return a shot that nobody else changes until the transaction ends, as it stands now; None where there is none.

    What the session loaded before is read anew where it is used again. Held twice is held once.
    """
    held = session.info.setdefault(_HELD, set())
    if number not in held:
        session.flush()
        # Rows that refer to the shot may still be added by others: its key is not changed.
        found = session.scalar(select(Shot.id).where(Shot.id == number).with_for_update(key_share=True))
        if found is None:
            return None
        held.add(number)
        session.expire_all()
    return session.get(Shot, number)


def hold_shots(session: Session, numbers: Iterable[int]) -> list[Shot]:
    """Return several shots, held; they are locked in the order of their numbers, so that two who hold many never wait
    for each other. The order of the answer is that of `numbers`; those that are no more are left out.
    """
    numbers = list(numbers)
    for number in sorted(set(numbers)):
        hold_shot(session, number)
    found = [session.get(Shot, number) for number in numbers]
    return [shot for shot in found if shot is not None]


def hold_row(session: Session, table: type[R], number: int) -> R | None:
    """Return a row that several shots share, a set or a lens profile, as it stands now, and hold it until the
    transaction ends; None where there is none. Shots are held before what they share.
    """
    session.flush()
    row = session.get(table, number, with_for_update={"key_share": True}, populate_existing=True)
    if row is not None:
        session.info.setdefault(_HELD, set()).add((table.__name__, number))
    return row


def count_change(session: Session, shot: Shot) -> int:
    """Raise a held shot's revision, by which pages learn that something of it has changed; return it."""
    shot.revision += 1
    session.info.setdefault(_COUNTED, set()).add(shot.id)
    return shot.revision


def free_of_shots(session: Session) -> None:
    """Let a session write rows of any shot: for purging what was deleted long ago, and for nothing that people see."""
    session.info[_FREE] = True


def _guard(session: Session, *_flushing) -> None:
    """Refuse to write rows of shots that are not held."""
    if session.info.get(_FREE):
        return
    held = session.info.get(_HELD, set())
    for row in [*session.new, *session.dirty, *session.deleted]:
        if isinstance(row, Shot):
            if row in session.new or _is_new(session, row.id) or not session.is_modified(row):
                continue
            _refuse(row, row.id, held)
            session.info.setdefault(_CHANGED, set()).add(row.id)
        elif isinstance(row, FilmSet | LensProfile):
            if row in session.dirty and session.is_modified(row) and (type(row).__name__, row.id) not in held:
                raise NotHeld(f"{row.name} changed without being held (store.held).")
        elif isinstance(row, _OF_A_SHOT) and (row not in session.dirty or session.is_modified(row)):
            number = row.shot_id
            if number is not None and not _is_new(session, number):
                _refuse(row, number, held)


def _count(session: Session) -> None:
    """Raise the revision of shots that the transaction has changed without counting that."""
    session.flush()
    for number in session.info.get(_CHANGED, set()) - session.info.get(_COUNTED, set()):
        shot = session.get(Shot, number)
        if shot is not None:
            count_change(session, shot)


def _is_new(session: Session, number: int) -> bool:
    """Return whether a shot was made in this transaction, so that nobody else knows of it."""
    return number in session.info.get(_NEW, set())


def _refuse(row, number: int, held: set) -> None:
    if number not in held:
        raise NotHeld(f"{type(row).__name__} of shot {number} changed without the shot being held (store.held).")


def _note_new(session: Session, _flushing) -> None:
    """Remember the shots that this transaction makes."""
    for row in session.new:
        if isinstance(row, Shot):
            session.info.setdefault(_NEW, set()).add(row.id)


def _guard_many(state: ORMExecuteState) -> None:
    """Refuse statements that write many rows of shots at once while no shot is held."""
    if not (state.is_update or state.is_delete) or state.session.info.get(_FREE):
        return
    mapper = state.bind_mapper
    if (
        mapper is not None
        and mapper.class_ in (Shot, *_OF_A_SHOT)
        and not (state.session.info.get(_HELD) or state.session.info.get(_NEW))
    ):
        raise NotHeld(f"Rows of {mapper.class_.__name__} changed without a shot being held (store.held).")


def _let_go(session: Session, transaction: SessionTransaction) -> None:
    """Forget what was held: locks end with their transaction, or with the savepoint in which they were taken."""
    if transaction.parent is None or transaction.nested:
        for key in (_HELD, _COUNTED, _CHANGED, _FREE, _NEW):
            session.info.pop(key, None)


def watch(session: type[Session] | Session) -> None:
    """Put the guard before all that sessions of a class write."""
    if not event.contains(session, "before_flush", _guard):
        event.listen(session, "before_flush", _guard)
        event.listen(session, "after_flush", _note_new)
        event.listen(session, "before_commit", _count)
        event.listen(session, "do_orm_execute", _guard_many)
        event.listen(session, "after_transaction_end", _let_go)
