"""Masks on the desk: shapes, mattes, samples, proposals, and what they cover."""

import io
import secrets
import tempfile
from pathlib import Path
from typing import Annotated, Literal

import numpy as np
from flask import Blueprint, Response, abort, current_app, jsonify, request, send_file
from pydantic import Field

from amberkeel.core.errors import KeelError, MaskError
from amberkeel.core.masks.mattes import trace, write_mattes
from amberkeel.core.masks.raster import shape_mask
from amberkeel.core.masks.shape import keys_to_json, shape_from_json
from amberkeel.core.pictures.read import CHANNELS
from amberkeel.core.pictures.write import encode_png
from amberkeel.core.plate.sequence import spans
from amberkeel.core.units import maybe_number
from amberkeel.jobs.masks import accept_proposal, make_mask
from amberkeel.store import edits
from amberkeel.store.mask_cuts import affected, cut
from amberkeel.store.masks import (
    check_mask,
    cover,
    get_matte,
    live_masks,
    live_proposals,
    mask_json,
    masked_of,
    matte_of,
    nothing_left,
    own_mask,
    proposal_json,
    put_matte,
)
from amberkeel.store.models import Proposal, Shot
from amberkeel.store.tracks import live_tracks
from amberkeel.store.typed import MOST_WHOLE, Typed, read_typed
from amberkeel.web.common import get_shot, media, open_session, send_packed, shot_to_change, stem_of
from amberkeel.web.jobs import start
from amberkeel.web.plate.sources import receive, under_roots, upload_folder, whole_or_nothing
from amberkeel.web.sent import Body, Whole, Word, sent
from amberkeel.web.state import shot_state

blueprint = Blueprint("masks", __name__)

COPIED = ("name", "kind", "purpose", "first", "last", "margin", "keys", "frames", "mattes", "samples", "cleaning")
"""What a copy of a mask takes along to another shot."""


@blueprint.get("/mattes/<digest>.png")
def matte(digest: str):
    """Send a matte as a white picture whose alpha is the matte, for tinting."""
    try:
        mask = get_matte(media(), digest)
    except (KeelError, FileNotFoundError):
        abort(404)
    picture = np.full((*mask.shape, 4), 255, np.uint8)
    picture[..., 3] = mask * np.uint8(255)
    answer = send_file(io.BytesIO(encode_png(picture)), mimetype="image/png")
    answer.headers["Cache-Control"] = "private, max-age=31536000, immutable"
    return answer


@blueprint.get("/shots/<int:number>/masks.json")
def masks(number: int):
    """Send a shot's masks and proposals, the masked share of each frame, and what is left uncovered."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        covered = cover(opened, media(), shot)
        full = nothing_left(np.arange(shot.plate.first, shot.plate.last + 1), covered.shares)
        tracked = bool(live_tracks(opened, shot)) if shot.masks_stamp != shot.followed_stamp else False
        return jsonify(
            masks=[mask_json(m) for m in live_masks(opened, shot)],
            proposals=[proposal_json(p) for p in live_proposals(opened, shot)],
            cover=[round(s, 4) for s in covered.shares],
            leaks=[[k.frame, round(k.share, 5), round(k.x, 4), round(k.y, 4)] for k in covered.leaks],
            looked=covered.known,
            full=spans(full) if full else "",
            changed=tracked,
        )


@blueprint.get("/shots/<int:number>/masked/<int:frame>.png")
def masked_frame(number: int, frame: int):
    """Send what is masked on a frame, white, for what lies behind it to be hidden."""
    with open_session() as opened:
        shot = get_shot(opened, number)
        plate = shot.plate
        if not plate.first <= frame <= plate.last:
            abort(404)
        masked = masked_of(media(), live_masks(opened, shot), plate.height, plate.width)
    there = np.zeros((plate.height, plate.width), bool) if masked is None else masked(frame)
    answer = Response(encode_png(there.astype(np.uint8) * np.uint8(255)), mimetype="image/png")
    # Other masks are another stamp, and that is part of the address.
    answer.headers["Cache-Control"] = "private, max-age=31536000, immutable"
    return answer


@blueprint.get("/shots/<int:number>/affected.json")
def run_under(number: int):
    """Send which tracks run under masks, and on which frames."""
    with open_session() as opened:
        found = affected(opened, media(), get_shot(opened, number))
    return jsonify(tracks=list(found), samples=sum(map(len, found.values())))


def _answer(opened, shot: Shot, **more):
    return jsonify({**shot_state(opened, shot), **more})


class NewMask(Body):
    """A shape's points on a frame, or nothing for a matte that is learned."""

    name: Word = ""
    points: list = []
    frame: Whole | None = None


class KeyValues(Typed):
    """A shape's outline on a frame."""

    points: list[tuple[float, float, float, float, float, float]]
    by: Literal["hand", "followed"] = "hand"
    confidence: float = 1.0


class CleaningValues(Typed):
    """What is done to a learned matte."""

    grow: float = Field(0.0, ge=-200.0, le=200.0)
    speck_px: int = Field(80, ge=0, le=10**8)
    fill_holes: bool = True


class MaskColumns(Typed):
    """What a page may change of a mask; its mattes change by jobs alone."""

    name: str = ""
    colour: str = Field("", pattern="^#[0-9a-f]{6}$")
    purpose: str = ""
    on: bool = True
    first: int | None = Field(None, ge=-MOST_WHOLE, le=MOST_WHOLE)
    last: int | None = Field(None, ge=-MOST_WHOLE, le=MOST_WHOLE)
    margin: float = 0.0
    keys: dict[Annotated[str, Field(pattern="^-?[0-9]{1,9}$")], KeyValues] = {}
    samples: list[tuple[int, float, float, bool]] = Field([], max_length=10_000)
    cleaning: CleaningValues = CleaningValues()


class ChangedMask(Body):
    """New values of a mask."""

    values: dict = {}
    label: Word = ""


@blueprint.post("/shots/<int:number>/masks")
def add(number: int):
    """Add a shape drawn on a frame, or a matte to be learned from samples."""
    asked = sent(NewMask)
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        count = len(live_masks(opened, shot)) + 1
        values = {
            "name": asked.name or f"{'Shape' if asked.points else 'Matte'} {count}",
            "kind": "matte",
        }
        if asked.points:
            values |= {
                "kind": "shape",
                "keys": {str(asked.need("frame")): {"points": asked.points, "by": "hand", "confidence": 1.0}},
            }
        else:
            values |= {"source": "from samples", "samples": []}
        check_mask(values, shot.plate.width, shot.plate.height)
        row = make_mask(opened, shot, **values)
        label = f"Draw {row.name}" if row.kind == "shape" else f"Start {row.name}"
        edits.apply(opened, number, "masks", {"bring": [row.id], "label": label}, asked.revision)
        return _answer(opened, shot, mask=row.id)


@blueprint.post("/shots/<int:number>/masks/<int:mask>")
def change(number: int, mask: int):
    """Change properties, keys or samples of a mask."""
    asked = sent(ChangedMask)
    with open_session() as opened:
        values = read_typed(MaskColumns, asked.values, "The mask").model_dump(mode="json", exclude_unset=True)
        shot = shot_to_change(opened, number)
        payload = {"id": mask, "values": values, "label": (asked.label or "Change a mask")[:200]}
        edits.apply(opened, number, "mask", payload, asked.revision)
        return _answer(opened, shot)


@blueprint.post("/shots/<int:number>/masks/<int:mask>/delete")
def delete(number: int, mask: int):
    """Delete a mask; undo brings it back."""
    with open_session() as opened:
        shot, row = shot_to_change(opened, number), own_mask(opened, number, mask)
        payload = {"remove": [mask], "label": f"Delete {row.name}"}
        edits.apply(opened, number, "masks", payload, sent(Body).revision)
        return _answer(opened, shot)


class CopiedTo(Body):
    """The name of the shot that a mask is copied to."""

    shot: Word = ""


@blueprint.post("/shots/<int:number>/masks/<int:mask>/copy")
def copy(number: int, mask: int):
    """Copy a mask to another shot of the same size."""
    name = sent(CopiedTo).shot.strip()
    with open_session() as opened:
        row, shot = own_mask(opened, number, mask), get_shot(opened, number)
        other = opened.query(Shot).filter(Shot.production_id == shot.production_id, Shot.name == name).one_or_none()
        if other is None or other.id == shot.id:
            raise MaskError(f"There is no other shot “{name}” in this production.")
        if (other.plate.width, other.plate.height) != (shot.plate.width, shot.plate.height):
            raise MaskError(
                f"{other.name} is {other.plate.width}x{other.plate.height}, this shot is "
                f"{shot.plate.width}x{shot.plate.height}.",
                "A mask fits a plate of the same size only.",
            )
        kept, other = {column: getattr(row, column) for column in COPIED}, shot_to_change(opened, other.id)
        made = make_mask(opened, other, **kept, source=f"copied from {shot.name}")
        edits.apply(opened, other.id, "masks", {"bring": [made.id], "label": f"Copy {row.name} from {shot.name}"})
        return jsonify(ok=True)


@blueprint.post("/shots/<int:number>/masks/<int:mask>/convert")
def convert(number: int, mask: int):
    """Make a shape of a matte, or a matte of a shape, as a new mask; the old one is switched off."""
    with open_session() as opened:
        shot, row = shot_to_change(opened, number), own_mask(opened, number, mask)
        plate = shot.plate
        if row.kind == "matte":
            keys = trace(matte_of(media(), row), list(row.frames))
            made = make_mask(
                opened,
                shot,
                name=f"{row.name} as a shape"[:80],
                kind="shape",
                keys=keys_to_json(keys),
                purpose=row.purpose,
                first=min(keys),
                last=max(keys),
            )
        else:
            shape = shape_from_json(mask_json(row))
            frames = [f for f in range(plate.first, plate.last + 1) if shape.alive(f)]
            hashes = [put_matte(media(), shape_mask(shape, f, plate.height, plate.width)) for f in frames]
            name = f"{row.name} as a matte"[:80]
            made = make_mask(opened, shot, name=name, kind="matte", frames=frames, mattes=hashes, purpose=row.purpose)
        edits.apply(opened, number, "masks", {"bring": [made.id], "off": [row.id], "label": f"Make {made.name}"})
        return _answer(opened, shot, mask=made.id)


class Decision(Body):
    """What becomes of a proposal: mask, or dismissed."""

    to: Word = ""


@blueprint.post("/shots/<int:number>/proposals/<int:proposal>")
def decide(number: int, proposal: int):
    """Make a proposal a mask, or dismiss it for good."""
    wanted = sent(Decision).to
    with open_session() as opened:
        shot, row = shot_to_change(opened, number), opened.get(Proposal, proposal)
        if row is None or row.shot_id != number:
            raise MaskError("That proposal is gone.")
        if wanted == "mask":
            made = accept_proposal(opened, shot, row)
            return _answer(opened, shot, mask=made.id)
        edits.apply(opened, number, "masks", {"proposals": {str(row.id): "dismissed"}, "label": "Dismiss a proposal"})
        return _answer(opened, shot)


@blueprint.post("/shots/<int:number>/cut")
def cut_covered(number: int):
    """Cut the frames that masks cover out of the tracks."""
    with open_session() as opened:
        shot = shot_to_change(opened, number)
        made = cut(opened, media(), shot, sent(Body).revision)
        return _answer(opened, shot, said=made.label)


@blueprint.post("/shots/<int:number>/mattes")
def bring(number: int):
    """Bring a matte sequence in: uploaded files, or a path under a plate root."""
    form = request.form
    channel, offset = form.get("channel", "luma"), form.get("offset", "").strip()
    if channel not in CHANNELS:
        raise MaskError(f"There is no channel “{channel}”.")
    shift = int(maybe_number(offset, "Offset", -MOST_WHOLE, MOST_WHOLE) or 0)
    name = (form.get("name", "").strip() or "Matte")[:80]
    how = {"name": name, "channel": channel, "inverted": form.get("inverted") == "yes", "offset": shift}
    files = [f for f in request.files.getlist("files") if f.filename]
    if not files:
        pattern = under_roots(current_app.settings.plate_roots, form.get("where", "").strip())
        return start("matte", number, {"pattern": str(pattern), "source": pattern.name[:400], **how})
    folder = upload_folder(current_app.settings.media, secrets.token_hex(8))
    with whole_or_nothing(folder):
        labels = receive(folder, files)
        if len(labels) != 1:
            raise MaskError(
                f"Those files are several sequences ({', '.join(labels[:4])}).", "Send one matte at a time."
            )
        source = str(files[0].filename)[:400]
        return start("matte", number, {"pattern": str(folder / labels[0]), "source": source, **how})


@blueprint.get("/shots/<int:number>/mattes.zip")
def download(number: int):
    """Send what is masked as an image sequence with the plate's numbering."""
    kind = request.args.get("kind", "png")
    with open_session() as opened:
        shot = get_shot(opened, number)
        plate = shot.plate
        masked = masked_of(media(), live_masks(opened, shot), plate.height, plate.width)
        if masked is None:
            raise MaskError("There is no mask to hand on.", "Draw or propose one first.")
        stem = f"{stem_of(shot.name)}_matte"
        with tempfile.TemporaryDirectory() as folder:
            written = write_mattes(Path(folder), stem, np.arange(plate.first, plate.last + 1), masked, kind)
            return send_packed(written, stem, f"{stem}_{kind}.zip")
