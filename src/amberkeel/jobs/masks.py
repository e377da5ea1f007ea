"""What the mask jobs do: propose, accept, carry, learn, bring in."""

from dataclasses import replace
from functools import partial

import numpy as np

from amberkeel.core.errors import Cancelled, KeelError, MaskError
from amberkeel.core.masks.carry import BENDING, SIMILARITY, SUBJECT, carry
from amberkeel.core.masks.cues import CueReader
from amberkeel.core.masks.evidence import Readers, believed_cameras
from amberkeel.core.masks.flows import FlowReader
from amberkeel.core.masks.leads import KEPT
from amberkeel.core.masks.mattes import bring_in
from amberkeel.core.masks.moves import Moves
from amberkeel.core.masks.moving import TRACK_GAP
from amberkeel.core.masks.proposal import CHANGING, MOVING, SHADOW, SWAYING
from amberkeel.core.masks.proposal import Proposal as Found
from amberkeel.core.masks.propose import in_words
from amberkeel.core.masks.propose import propose as what_to_mask
from amberkeel.core.masks.samples import Cleaning, Learned, Sample
from amberkeel.core.masks.shape import HAND, Key, keys_to_json, points_at, shape_from_json
from amberkeel.core.masks.some_tracks import more_tracks, some_tracks
from amberkeel.core.masks.spots import matte_of, on_what_moves, subject_of
from amberkeel.core.masks.subject import NothingMoves
from amberkeel.core.masks.wrap import Wrapped, wrapped
from amberkeel.core.plate.kept import kept
from amberkeel.core.plate.plate import Plate
from amberkeel.core.plate.sequence import spans
from amberkeel.core.progress import Progress, span
from amberkeel.core.tracks import TrackSet
from amberkeel.jobs.chain import Arguments, effect
from amberkeel.jobs.images import allowed, open_row, plate_row
from amberkeel.settings import Settings
from amberkeel.store.edits import apply
from amberkeel.store.held import count_change
from amberkeel.store.masks import live_masks, mask_json, masked_of, next_colour, own_mask, put_matte
from amberkeel.store.media import Media
from amberkeel.store.models import Mask, Proposal, Shot
from amberkeel.store.motion import keep_bodies, known_bodies
from amberkeel.store.session import session
from amberkeel.store.tracks import live_tracks, to_track_set

BY_MOTION = (MOVING, SWAYING, CHANGING, SHADOW)
"""Kinds of proposals that come from what moves."""


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


def propose(settings: Settings, shot_id: int, arguments: Arguments, progress: Progress) -> None:
    """Find what moves by itself; proposals that are open are replaced, dismissed ones stay away. A shot that has no
    tracks yet is followed quickly for it. Where other jobs wait, they go on without masks if nothing can be told.
    """
    plate, media = kept(open_row(plate_row(settings, shot_id))), Media(settings.media)
    tracks, ids = known_tracks(settings, shot_id)
    early = not ids
    with session(settings.database) as opened:
        masked = masked_of(media, live_masks(opened, opened.get(Shot, shot_id)), plate.height, plate.width)
    try:
        if early:
            tracks = some_tracks(plate, span(progress, 0.0, 0.3))
        share = span(progress, 0.3 if early else 0.0, 0.97)
        more = partial(more_tracks, plate) if early else None
        found, bodies = what_to_mask(plate, tracks, masked, share, more=more)
    except KeelError as error:
        if not arguments.then or isinstance(error, Cancelled):
            raise
        with effect(settings, shot_id, arguments, f"Not masked: {error}"):
            return
    with effect(settings, shot_id, arguments) as opened:
        if masked is None:
            keep_bodies(opened, media, opened.get(Shot, shot_id), bodies)
        old = opened.query(Proposal).filter(Proposal.shot_id == shot_id).all()
        dismissed = [p for p in old if p.state == "dismissed"]
        for row in old:
            if row.state == "open":
                opened.delete(row)
        found = [_without_tracks(p) for p in found] if early else found
        fresh = [p for p in found if not any(_same(p, d, ids) for d in dismissed)]
        for p in fresh:
            opened.add(_row(media, shot_id, p, ids))
        count_change(opened, opened.get(Shot, shot_id))
        opened.info["said"] = in_words(fresh)


def _without_tracks(proposal: Found) -> Found:
    """Return a proposal that was found by tracks which the shot does not keep."""
    return replace(proposal, tracks=[], tails=[])


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
        "gap": TRACK_GAP if p.kind in BY_MOTION else None,
        "tails": [[ids[t], frames.tolist(), xy.round(1).tolist()] for t, frames, xy in p.tails],
    }
    mattes, own = [put_matte(media, p.mask(int(f))) for f in p.frames], [ids[t] for t in p.tracks]
    return Proposal(
        shot_id=shot_id, kind=p.kind, frames=p.frames.tolist(), mattes=mattes, tracks=own, evidence=evidence
    )


MASK_NAMES = {
    "moving": "Moves", "swaying": "Moves in place", "changing": "Changes", "shadow": "Shadow",
    "reflection": "Reflection", "crossing": "False corners",
}  # fmt: skip


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


def with_edits(before: dict, now: dict, made: dict) -> dict:
    """Return what a job made by frame; what a hand has changed meanwhile stays as the hand left it."""
    out = {frame: value for frame, value in made.items() if frame in now or frame not in before}
    return out | {frame: value for frame, value in now.items() if before.get(frame) != value}


def carry_shape(settings: Settings, shot_id: int, arguments: Carry, progress: Progress) -> None:
    """Carry a shape along with its subject; keys set by hand stay."""
    with session(settings.database) as opened:
        kept = mask_json(own_mask(opened, shot_id, arguments.mask))
    plate = open_row(plate_row(settings, shot_id))
    start, stop = arguments.start, arguments.stop
    model = arguments.model
    as_one = ""
    if model == SUBJECT:
        try:
            return _wrap(settings, shot_id, arguments, kept, plate, progress)
        except NothingMoves:
            model, as_one = SIMILARITY, "Nothing moves by itself inside the outline, so it is followed as one piece: "
    tracks = known_tracks(settings, shot_id)[0] if model == BENDING else None
    done = carry(plate, shape_from_json(kept), start, stop, model, span(progress, 0.0, 0.99), tracks)
    said = as_one + (done.lost or f"{kept['name']} is followed to frame {done.reached}.")
    with effect(settings, shot_id, arguments, said) as opened:
        now = mask_json(own_mask(opened, shot_id, arguments.mask))
        keys = with_edits(kept["keys"], now["keys"], keys_to_json(done.keys))
        label = f"Follow {kept['name']} from {start} to {done.reached}"
        apply(opened, shot_id, "mask", {"id": kept["id"], "values": {"keys": keys}, "label": label})


def moves_on(settings: Settings, shot_id: int, plate: Plate, frames: range, progress: Progress) -> Moves:
    """Return what moves on some frames of a shot: what is known of it, and the rest looked for."""
    media = Media(settings.media)
    with session(settings.database) as opened:
        known = known_bodies(media, opened.get(Shot, shot_id).plate)
    flows = FlowReader(plate, KEPT)
    moves = Moves(flows, known)
    lacking = [f for f in frames if f not in known]
    if not lacking:
        return moves
    tracks = known_tracks(settings, shot_id)[0]
    more = None if len(tracks) else partial(more_tracks, plate)
    if more:
        tracks = some_tracks(plate, span(progress, 0.0, 0.2))
    cameras, _ = believed_cameras(plate, tracks, span(progress, 0.2, 0.4), more)
    reader = Readers(plate, cameras, flows)
    moves = Moves(flows, known, lambda: reader)
    for k, frame in enumerate(lacking):
        progress(0.4 + 0.6 * k / len(lacking), f"Looking for what moves, frame {frame}")
        moves.body(frame)
    return moves


def look(settings: Settings, shot_id: int, arguments: Arguments, progress: Progress) -> None:
    """Look for what moves on every frame, ahead of the masks that will ask."""
    plate = open_row(plate_row(settings, shot_id))
    frames = range(int(plate.frames[0]), int(plate.frames[-1]) + 1)
    moves = moves_on(settings, shot_id, plate, frames, span(progress, 0.0, 0.99))
    with effect(settings, shot_id, arguments) as opened:
        shot = opened.get(Shot, shot_id)
        keep_bodies(opened, Media(settings.media), shot, moves.bodies)
        count_change(opened, shot)


def _wrap(settings: Settings, shot_id: int, arguments: Carry, kept: dict, plate: Plate, progress: Progress) -> None:
    """Let a rough shape follow what moves inside it."""
    shape = shape_from_json(kept)
    low, high = sorted((arguments.start, arguments.stop))
    hand = [f for f, key in shape.keys.items() if key.by == HAND]
    if not any(low <= f <= high for f in hand):
        # Where no key lies in the range, the outline as it stands on its first frame is one.
        shape.keys[arguments.start] = Key(points_at(shape, arguments.start))
    frames = range(low, high + 1)
    moves = moves_on(settings, shot_id, plate, frames, span(progress, 0.0, 0.7))
    done = wrapped(moves, shape, low, high, (plate.width, plate.height), span(progress, 0.7, 0.99))
    with effect(settings, shot_id, arguments, _followed(kept["name"], done, low, high)) as opened:
        row = own_mask(opened, shot_id, arguments.mask)
        keep_bodies(opened, Media(settings.media), opened.get(Shot, shot_id), moves.bodies)
        now = mask_json(row)
        changed = {f for f, key in now["keys"].items() if kept["keys"].get(f) != key}
        if changed:
            where = spans(sorted(map(int, changed)))
            raise MaskError(f"The shape was changed meanwhile on {where}.", "Follow it again.")
        values = {"keys": keys_to_json(done.keys), **_life(kept, done, low, high)}
        label = f"Follow {kept['name']} from {low} to {high}"
        apply(opened, shot_id, "mask", {"id": kept["id"], "values": values, "label": label})


def _life(kept: dict, done: Wrapped, low: int, high: int) -> dict:
    """Return from when to when a shape lives, where its subject came in or went out within the range."""
    first = done.first if done.first > low else kept["first"]
    last = done.last if done.last < high else kept["last"]
    return {"first": first, "last": last}


def _followed(name: str, done: Wrapped, low: int, high: int) -> str:
    """Say in words how a shape followed its subject."""
    parts = [f"{name} follows its subject from {done.first} to {done.last}"]
    if done.last < high:
        parts.append(f"it leaves the picture after {done.last}")
    by_word: dict[str, list[int]] = {}
    for frame, said in done.doubtful.items():
        by_word.setdefault(said, []).append(frame)
    parts += [f"{said} on {spans(frames)}" for said, frames in by_word.items()]
    return "; ".join(parts) + "."


def samples_of(rows: list) -> list[Sample]:
    """Return stored samples, [frame, x, y, subject] each, as core's."""
    return [Sample(int(f), float(x), float(y), bool(s)) for f, x, y, s in rows]


def learn(settings: Settings, shot_id: int, arguments: Learn, progress: Progress) -> None:
    """Learn a matte from its samples, over a range of frames."""
    with session(settings.database) as opened:
        kept = mask_json(own_mask(opened, shot_id, arguments.mask))
    plate, media = open_row(plate_row(settings, shot_id)), Media(settings.media)
    size, samples = (plate.width, plate.height), samples_of(kept["samples"])
    cleaning, rest = Cleaning(**kept["cleaning"]), span(progress, 0.5, 0.99)
    frames = range(arguments.first or int(plate.frames[0]), (arguments.last or int(plate.frames[-1])) + 1)
    moves = moves_on(settings, shot_id, plate, frames, span(progress, 0.0, 0.5))
    mattes, said = dict(kept["mattes"]), f"{kept['name']} is learned from its spots."
    if on_what_moves(moves, samples, size):
        found = subject_of(moves, samples, frames[0], frames[-1], size, span(rest, 0.0, 0.7))
        for k, frame in enumerate(frames):
            mattes.pop(str(frame), None)
            if frame in found:
                mattes[str(frame)] = put_matte(media, matte_of(found[frame], size, cleaning))
            rest(0.7 + 0.3 * (k + 1) / len(frames), f"Matte of frame {frame}")
        said = f"{kept['name']} is found on {spans(sorted(found))}."
    else:
        tracks, _ = known_tracks(settings, shot_id)
        learned = Learned(CueReader(plate, tracks), samples)
        for k, frame in enumerate(frames):
            mattes[str(frame)] = put_matte(media, learned.matte(frame, cleaning))
            rest((k + 1) / len(frames), f"Matte from samples, frame {frame}")
    with effect(settings, shot_id, arguments, said) as opened:
        keep_bodies(opened, media, opened.get(Shot, shot_id), moves.bodies)
        now = mask_json(own_mask(opened, shot_id, arguments.mask))
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
    found, lacking = bring_in(
        str(allowed(arguments.pattern)), plate, channel, inverted, offset, span(progress, 0.0, 0.9)
    )
    frames = sorted(found)
    hashes = [put_matte(media, found[f]) for f in frames]
    said = f"The matte is in; it has nothing for {spans(lacking)}." if lacking else "The matte is in, with every frame."
    with effect(settings, shot_id, arguments, said) as opened:
        shot = opened.get(Shot, shot_id)
        name, source = arguments.name, arguments.source
        row = make_mask(opened, shot, name=name, kind="matte", frames=frames, mattes=hashes, source=source)
        apply(opened, shot_id, "masks", {"bring": [row.id], "label": f"Bring {row.name} in"})
