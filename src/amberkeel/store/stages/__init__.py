"""The state of a shot's stages, each with one short fact; a stage is a file here and a line in `STAGES`."""

from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.store.models import Job, Mask, Proposal, Shot
from amberkeel.store.stages import handoff, lens, masks, plate, solve, ties, tracks, world
from amberkeel.store.stages.state import Facts, Stage, attention, is_stale, lens_changed, masks_changed, pinned
from amberkeel.store.stages.world import placed_by_lines
from amberkeel.store.tracks import count_tracks

STAGES = (plate, masks, tracks, lens, solve, world, ties, handoff)
"""The stages of a shot, in their order."""


def stages(session: Session, shot: Shot) -> list[Stage]:
    """Return the stages of a shot in their order."""
    attempt = pinned(session, shot)
    busy = select(Job.kind).where(Job.shot_id == shot.id, Job.state.in_(["queued", "running"]))
    masks_of = select(Mask.id).where(Mask.shot_id == shot.id, ~Mask.removed)
    proposals = select(Proposal.id).where(Proposal.shot_id == shot.id, Proposal.state == "open")
    facts = Facts(
        session, shot, attempt, set(session.scalars(busy)), sum(count_tracks(session, shot).values()),
        len(session.scalars(masks_of).all()), len(session.scalars(proposals).all()),
        is_stale(shot, attempt) or masks_changed(shot, attempt),
    )  # fmt: skip
    return [one.stage(facts) for one in STAGES]


__all__ = ["STAGES", "attention", "is_stale", "lens_changed", "masks_changed", "pinned", "placed_by_lines", "stages"]
