"""What the mask jobs do: propose, accept, carry, learn, bring in."""

import numpy as np

from amberkeel.core.errors import MaskError
from amberkeel.core.masks.carry import BENDING, SIMILARITY, carry
from amberkeel.core.masks.cues import CueReader
from amberkeel.core.masks.mattes import bring_in
from amberkeel.core.masks.moving import TRACK_GAP
from amberkeel.core.masks.proposal import MOVING
from amberkeel.core.masks.propose import in_words
from amberkeel.core.masks.propose import propose as what_to_mask
from amberkeel.core.masks.samples import Cleaning, Learned, Sample
from amberkeel.core.masks.shape import keys_to_json, shape_from_json
from amberkeel.core.plate.sequence import spans
from amberkeel.core.progress import Progress, span
from amberkeel.core.tracks import TrackSet
from amberkeel.jobs.chain import Arguments, effect, locked_shot
from amberkeel.jobs.images import open_row, plate_row
from amberkeel.settings import Settings
from amberkeel.store.edits import apply
from amberkeel.store.masks import live_masks, mask_json, masked_of, next_colour, put_matte
from amberkeel.store.media import Media
from amberkeel.store.models import Mask, Proposal, Shot
from amberkeel.store.session import session
from amberkeel.store.tracks import live_tracks, to_track_set

TAILS = 12
"""Tracks whose tails are kept as a proposal's evidence."""


class Carry(Arguments):
    """A shape to carry along with its subject, from one frame to another, by a model of its motion."""

    mask: int
    start: int
    stop: int
    model: str = SIMILARITY


class Learn(Arguments):
    """A matte to learn from its spots, over frames (all by default)."""

    mask: int
    first: int | None = None
    last: int | None = None


class BringMatte(Arguments):
    """Mattes to bring in as a mask: where they lie, and how they are read."""

    pattern: str
    name: str
    source: str
    channel: str = "luma"
    inverted: bool = False
    offset: int = 0


def known_tracks(settings: Settings, shot_id: int) -> tuple[TrackSet, list[int]]:
    """Return a shot's tracks and their ids; there may be none."""
    with session(settings.database) as opened:
        shot = opened.get(Shot, shot_id)
        tracks = to_track_set(live_tracks(opened, shot), shot.plate)
        return tracks, tracks.ids.tolist()


def shot_tracks(settings: Settings, shot_id: int) -> tuple[TrackSet, list[int]]:
    """Return a shot's tracks and their ids; raises MaskError when there are none."""
    tracks, ids = known_tracks(settings, shot_id)
    if not ids:
        raise MaskError("There are no tracks to tell how the background moves.", "Follow features first.")
    return tracks, ids


def propose(settings: Settings, shot_id: int, arguments: Arguments, progress: Progress) -> None:
    """Find what moves by itself; proposals that are open are replaced, dismissed ones stay away."""
    plate, media = open_row(plate_row(settings, shot_id)), Media(settings.media)
    tracks, ids = shot_tracks(settings, shot_id)
    with session(settings.database) as opened:
        masked = masked_of(media, live_masks(opened, opened.get(Shot, shot_id)), plate.height, plate.width)
    found = what_to_mask(plate, tracks, masked, span(progress, 0.0, 0.97))
    with effect(settings, shot_id, arguments) as opened:
        old = opened.query(Proposal).filter(Proposal.shot_id == shot_id).all()
        dismissed = [p for p in old if p.state == "dismissed"]
        for row in old:
            if row.state == "open":
                opened.delete(row)
        fresh = [p for p in found if not any(_same(p, d, ids) for d in dismissed)]
        for p in fresh:
            opened.add(_row(media, shot_id, p, ids))
        opened.get(Shot, shot_id).revision += 1
        opened.info["said"] = in_words(fresh)


def _same(proposal, dismissed: Proposal, ids: list[int]) -> bool:
    """Tell whether a proposal is one that was dismissed: most frames and most of its tracks are shared."""
    frames, tracks = set(proposal.frames.tolist()), {ids[t] for t in proposal.tracks}
    shared = len(frames & set(dismissed.frames)) / max(1, min(len(frames), len(dismissed.frames)))
    alike = len(tracks & set(dismissed.tracks)) / max(1, min(len(tracks), len(dismissed.tracks)))
    return proposal.kind == dismissed.kind and shared > 0.6 and (alike > 0.5 or not tracks)


def _row(media: Media, shot_id: int, p, ids: list[int]) -> Proposal:
    evidence = {
        "speed": None if np.isnan(p.speed) else round(p.speed, 2),
        "share": round(p.share, 4),
        "background": p.background,
        "gap": TRACK_GAP if p.kind == MOVING else None,
        "tails": [[ids[t], frames.tolist(), xy.round(1).tolist()] for t, frames, xy in p.tails[:TAILS]],
    }
    mattes, own = [put_matte(media, p.mask(int(f))) for f in p.frames], [ids[t] for t in p.tracks]
    return Proposal(
        shot_id=shot_id, kind=p.kind, frames=p.frames.tolist(), mattes=mattes, tracks=own, evidence=evidence
    )


MASK_NAMES = {"moving": "Moves", "reflection": "Reflection", "crossing": "False corners"}


def make_mask(opened, shot: Shot, **values) -> Mask:
    """Add a mask that an edit then takes up."""
    row = Mask(shot_id=shot.id, colour=next_colour(opened, shot), removed=True, **values)
    opened.add(row)
    opened.flush()
    return row


def accept_proposal(opened, shot: Shot, proposal: Proposal, name: str = "") -> Mask:
    """Turn a proposal into a mask, as one edit."""
    name = name or f"{MASK_NAMES[proposal.kind]} {proposal.frames[0]}-{proposal.frames[-1]}"
    row = make_mask(
        opened, shot, name=name, kind="matte", frames=proposal.frames, mattes=proposal.mattes, source="proposed"
    )
    label = f"Mask what is proposed ({row.name})"
    apply(opened, shot.id, "masks", {"bring": [row.id], "proposals": {str(proposal.id): "accepted"}, "label": label})
    return row


def accept(settings: Settings, shot_id: int, arguments: Arguments, progress: Progress) -> None:
    """Turn every open proposal of something that moves into a mask."""
    with effect(settings, shot_id, arguments) as opened:
        shot = opened.get(Shot, shot_id)
        waiting = opened.query(Proposal).filter_by(shot_id=shot_id, state="open", kind=MOVING)
        for proposal in waiting.order_by(Proposal.id).all():
            accept_proposal(opened, shot, proposal)


def _mask(opened, shot_id: int, number: int) -> Mask:
    row = opened.get(Mask, number)
    if row is None or row.shot_id != shot_id or row.removed:
        raise MaskError("That mask is gone.", "Undo its deletion first.")
    return row


def _locked(opened, shot_id: int, number: int) -> Mask:
    """Return a mask as it stands now; nobody changes its shot until the transaction ends."""
    locked_shot(opened, shot_id)
    opened.expire_all()
    return _mask(opened, shot_id, number)


def with_edits(before: dict, now: dict, made: dict) -> dict:
    """Return what a job made by frame; what a hand has changed meanwhile stays as the hand left it."""
    out = {frame: value for frame, value in made.items() if frame in now or frame not in before}
    return out | {frame: value for frame, value in now.items() if before.get(frame) != value}


def carry_shape(settings: Settings, shot_id: int, arguments: Carry, progress: Progress) -> None:
    """Carry a shape along with its subject; keys set by hand stay."""
    with session(settings.database) as opened:
        kept = mask_json(_mask(opened, shot_id, arguments.mask))
    plate = open_row(plate_row(settings, shot_id))
    start, stop = arguments.start, arguments.stop
    model = arguments.model
    tracks = known_tracks(settings, shot_id)[0] if model == BENDING else None
    done = carry(plate, shape_from_json(kept), start, stop, model, span(progress, 0.0, 0.99), tracks)
    said = done.lost or f"{kept['name']} is followed to frame {done.reached}."
    with effect(settings, shot_id, arguments, said) as opened:
        now = mask_json(_locked(opened, shot_id, arguments.mask))
        keys = with_edits(kept["keys"], now["keys"], keys_to_json(done.keys))
        label = f"Follow {kept['name']} from {start} to {done.reached}"
        apply(opened, shot_id, "mask", {"id": kept["id"], "values": {"keys": keys}, "label": label})


def samples_of(rows: list) -> list[Sample]:
    """Return stored samples, [frame, x, y, subject] each, as core's."""
    return [Sample(int(f), float(x), float(y), bool(s)) for f, x, y, s in rows]


def learn(settings: Settings, shot_id: int, arguments: Learn, progress: Progress) -> None:
    """Learn a matte from its samples, over a range of frames."""
    with session(settings.database) as opened:
        kept = mask_json(_mask(opened, shot_id, arguments.mask))
    plate, media = open_row(plate_row(settings, shot_id)), Media(settings.media)
    tracks, _ = known_tracks(settings, shot_id)
    progress(0.0, "Learning from the samples")
    learned = Learned(CueReader(plate, tracks), samples_of(kept["samples"]))
    mattes = dict(kept["mattes"])
    frames = range(arguments.first or int(plate.frames[0]), (arguments.last or int(plate.frames[-1])) + 1)
    for k, frame in enumerate(frames):
        mattes[str(frame)] = put_matte(media, learned.matte(frame, Cleaning(**kept["cleaning"])))
        progress((k + 1) / len(frames) * 0.99, f"Matte from samples, frame {frame}")
    with effect(settings, shot_id, arguments) as opened:
        now = mask_json(_locked(opened, shot_id, arguments.mask))
        mattes = with_edits(kept["mattes"], now["mattes"], mattes)
        order = sorted(map(int, mattes))
        values = {"frames": order, "mattes": [mattes[str(f)] for f in order]}
        label = f"Learn {kept['name']} over {len(frames)} frames"
        apply(opened, shot_id, "mask", {"id": kept["id"], "values": values, "label": label})


def bring_matte(settings: Settings, shot_id: int, arguments: BringMatte, progress: Progress) -> None:
    """Bring a matte sequence in as a mask; frames without one are named."""
    plate, media = open_row(plate_row(settings, shot_id)), Media(settings.media)
    channel, inverted, offset = (
        arguments.channel,
        arguments.inverted,
        arguments.offset,
    )
    found, lacking = bring_in(arguments.pattern, plate, channel, inverted, offset, span(progress, 0.0, 0.9))
    frames = sorted(found)
    hashes = [put_matte(media, found[f]) for f in frames]
    said = f"The matte is in; it has nothing for {spans(lacking)}." if lacking else "The matte is in, with every frame."
    with effect(settings, shot_id, arguments, said) as opened:
        shot = opened.get(Shot, shot_id)
        name, source = arguments.name, arguments.source
        row = make_mask(opened, shot, name=name, kind="matte", frames=frames, mattes=hashes, source=source)
        apply(opened, shot_id, "masks", {"bring": [row.id], "label": f"Bring {row.name} in"})
