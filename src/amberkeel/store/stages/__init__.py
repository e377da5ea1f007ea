"""The state of a shot's stages, each with one short fact; a stage is a file here and a line in `STAGES`."""

from collections.abc import Iterable, Sequence

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from amberkeel.store.models import Attempt, Base, Job, LensProfile, Mask, Package, Proposal, Shot, Track
from amberkeel.store.stages import handoff, lens, masks, plate, solve, ties, tracks, world
from amberkeel.store.stages.state import Facts, Stage, attentions, is_stale, lens_changed, masks_changed, pinned
from amberkeel.store.stages.world import placed_by_lines

STAGES = (plate, masks, tracks, lens, solve, world, ties, handoff)
"""The stages of a shot, in their order."""


def stages(session: Session, shot: Shot) -> list[Stage]:
    """Return the stages of a shot in their order."""
    return courses(session, [shot])[shot.id]


def courses(session: Session, shots: Sequence[Shot]) -> dict[int, list[Stage]]:
    """Return the stages of shots in their order, by the shot's number.

    A board of hundreds takes a few queries where the caller holds its `pinned_attempts`: the session itself keeps no
    row that nobody holds, and what it keeps is not asked for again.
    """
    ids = [shot.id for shot in shots]
    held = _pointed_to(session, LensProfile, [shot.profile_id for shot in shots])
    running = _kinds_running(session, ids)
    counts = [
        _counted(session, table, ids, which)
        for table, which in ((Track, ~Track.removed), (Mask, ~Mask.removed), (Proposal, Proposal.state == "open"))
    ]
    packed, out = _last_packages(session, ids), {}
    for shot in shots:
        attempt = pinned(session, shot)
        own = [count.get(shot.id, 0) for count in counts]
        look = is_stale(shot, attempt) or masks_changed(shot, attempt)
        facts = Facts(session, shot, attempt, running.get(shot.id, set()), *own, look, packed.get(shot.id))
        out[shot.id] = [one.stage(facts) for one in STAGES]
    del held
    return out


def pinned_attempts(session: Session, shots: Sequence[Shot]) -> dict[int, Attempt]:
    """Return the attempts in use on shots, by their own numbers."""
    return {row.id: row for row in _pointed_to(session, Attempt, [shot.pinned_id for shot in shots])}


def _pointed_to(session: Session, table: type[Base], ids: Iterable[int | None]) -> list:
    wanted = {one for one in ids if one}
    return list(session.scalars(select(table).where(table.id.in_(wanted)))) if wanted else []


def _kinds_running(session: Session, ids: list[int]) -> dict[int, set[str]]:
    busy = select(Job.shot_id, Job.kind).where(Job.shot_id.in_(ids), Job.state.in_(["queued", "running"]))
    out: dict[int, set[str]] = {}
    for shot, kind in session.execute(busy):
        out.setdefault(shot, set()).add(kind)
    return out


def _last_packages(session: Session, ids: list[int]) -> dict[int, Package]:
    last = select(func.max(Package.id)).where(Package.shot_id.in_(ids)).group_by(Package.shot_id)
    return {row.shot_id: row for row in session.scalars(select(Package).where(Package.id.in_(last)))}


def _counted(session: Session, table: type[Track | Mask | Proposal], ids: list[int], which) -> dict[int, int]:
    rows = select(table.shot_id, func.count()).where(table.shot_id.in_(ids), which).group_by(table.shot_id)
    return {shot: count for shot, count in session.execute(rows)}


__all__ = [
    "STAGES",
    "attentions",
    "courses",
    "is_stale",
    "lens_changed",
    "masks_changed",
    "pinned",
    "pinned_attempts",
    "placed_by_lines",
    "stages",
]
