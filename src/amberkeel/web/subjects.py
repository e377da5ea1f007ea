"""Subjects of masks on the desk: looking for what moves, shapes that follow, and mattes from clicked spots."""

import threading
from collections import OrderedDict
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from typing import Any, TypeVar

import numpy as np
from flask import Blueprint, jsonify
from sqlalchemy.orm import Session

from amberkeel.core.errors import MaskError
from amberkeel.core.masks.carry import WAYS
from amberkeel.core.masks.cues import CueReader
from amberkeel.core.masks.flows import FlowReader
from amberkeel.core.masks.leads import KEPT
from amberkeel.core.masks.moves import Moves
from amberkeel.core.masks.samples import Cleaning, Learned, Sample
from amberkeel.core.masks.spots import first_matte, on_what_moves
from amberkeel.jobs.images import open_row
from amberkeel.jobs.masks import samples_of
from amberkeel.jobs.queue import wake
from amberkeel.store.jobs import add_job
from amberkeel.store.masks import own_mask, put_matte
from amberkeel.store.models import Job, Plate, Shot
from amberkeel.store.motion import known_bodies
from amberkeel.store.tracks import live_tracks, to_track_set
from amberkeel.store.trials import RUNNING
from amberkeel.web.common import get_shot, media, open_session
from amberkeel.web.jobs import start
from amberkeel.web.sent import Body, Whole, Word, sent

blueprint = Blueprint("subjects", __name__)

T = TypeVar("T")


class OnFrame(Body):
    """A frame."""

    frame: Whole


CUES_KEPT = 8
"""Frames of a shot whose cues are kept, about 30 MB each."""

READERS_KEPT = 2
"""Shots whose readers are kept, those asked for last."""


class _Kept:
    """Readers of the shots asked for last. The server's threads share them, so each is used by one at a time."""

    def __init__(self) -> None:
        self._own = threading.Lock()
        self._readers: OrderedDict[tuple, tuple[Any, threading.Lock]] = OrderedDict()

    @contextmanager
    def using(self, key: tuple, make: Callable[[], T]) -> Iterator[T]:
        """Hold the reader of a key, made where there is none yet.

        Parameters
        ----------
        key : what it reads. make : returns a new reader.
        """
        with self._own:
            if key not in self._readers:
                self._readers[key] = make(), threading.Lock()
            self._readers.move_to_end(key)
            while len(self._readers) > READERS_KEPT:
                self._readers.popitem(last=False)
            reader, lock = self._readers[key]
        with lock:
            yield reader


_flows, _cues = _Kept(), _Kept()


def _cues_of(opened: Session, shot: Shot) -> AbstractContextManager[CueReader]:
    """Hold a shot's cue reader; it is kept while the tracks stay, with the cues of frames asked for lately."""
    plate = shot.plate
    key = (plate.source, plate.first, plate.last, shot.tracks_stamp, shot.id)
    tracks = to_track_set(live_tracks(opened, shot), plate)
    return _cues.using(key, lambda: CueReader(open_row(plate), tracks, keep=CUES_KEPT))


def _flows_of(plate: Plate) -> AbstractContextManager[FlowReader]:
    """Hold what reads pictures and flow of a plate; those asked for lately are kept."""
    key = (plate.source, plate.first, plate.last, plate.encoding)
    return _flows.using(key, lambda: FlowReader(open_row(plate), KEPT))


@blueprint.post("/shots/<int:number>/look")
def look(number: int):
    """Look for what moves on all frames ahead of the spots that will be clicked, where that is not known."""
    frame = sent(OnFrame).frame
    with open_session() as opened:
        shot = get_shot(opened, number)
        plate = shot.plate
        if not plate.first <= frame <= plate.last:
            raise MaskError(f"The plate has no frame {frame}.", f"It runs from {plate.first} to {plate.last}.")
        known = frame in known_bodies(media(), plate)
        at_work = opened.query(Job).filter(Job.shot_id == number, Job.kind == "look", Job.state.in_(RUNNING)).count()
        if not known and not at_work and plate.ready:
            add_job(opened, "look", number, background=True)
    wake()
    return jsonify(frame=frame, known=known)


@blueprint.post("/shots/<int:number>/masks/<int:mask>/try")
def try_samples(number: int, mask: int):
    """Answer with the matte of one frame as a mask's samples tell it; nothing is stored with the mask."""
    frame = sent(OnFrame).frame
    with open_session() as opened:
        row, shot = own_mask(opened, number, mask), get_shot(opened, number)
        samples, cleaning = samples_of(row.samples), Cleaning(**row.cleaning)
        if not any(s.subject for s in samples):
            raise MaskError("Every spot says “not the subject”.", "Click a spot that is.")
        found = _matte_of(opened, shot, samples, cleaning, frame)
    return jsonify(frame=frame, matte=put_matte(media(), found), share=round(float(found.mean()), 4))


def _matte_of(opened: Session, shot: Shot, samples: list[Sample], cleaning: Cleaning, frame: int) -> np.ndarray:
    """Return the matte (H, W) of a frame as samples tell it: by what moves, or by colours.

    Raises
    ------
    MaskError : neither tells anything, or what moves is not known yet.
    """
    plate = shot.plate
    size, bodies = (plate.width, plate.height), known_bodies(media(), plate)
    known = all(s.frame in bodies for s in samples) and frame in bodies
    if known:
        with _flows_of(plate) as flows:
            moves = Moves(flows, bodies)
            if on_what_moves(moves, samples, size):
                return first_matte(moves, samples, frame, size, cleaning)
    if any(not s.subject for s in samples):
        with _cues_of(opened, shot) as cues:
            return Learned(cues, samples).matte(frame, cleaning)
    if known:
        raise MaskError("Nothing moves by itself there.", "Click spots that are not it, too: colours then tell.")
    raise MaskError("What moves is still looked for.", "A moment; or click spots that are not it, too.")


class Carried(Body):
    """From which frame to which a shape follows its subject, and how it may move."""

    model: Word = ""
    start: Whole
    stop: Whole


@blueprint.post("/shots/<int:number>/masks/<int:mask>/carry")
def carry_along(number: int, mask: int):
    """Start following a shape's subject."""
    asked = sent(Carried)
    with open_session() as opened:
        if own_mask(opened, number, mask).kind != "shape":
            raise MaskError("Only a shape can follow its subject.", "Make a shape of the matte first.")
    if asked.model not in WAYS:
        raise MaskError(f"Choose how the shape may move: {', '.join(WAYS)}.")
    return start("carry", number, {"mask": mask, "start": asked.start, "stop": asked.stop, "model": asked.model})


class Learning(Body):
    """The frames that a matte is learned for; nothing for all."""

    first: Whole | None = None
    last: Whole | None = None


@blueprint.post("/shots/<int:number>/masks/<int:mask>/learn")
def learn_range(number: int, mask: int):
    """Start learning a matte over a range of frames."""
    asked = sent(Learning)
    with open_session() as opened:
        samples = own_mask(opened, number, mask).samples
    if not any(s[3] for s in samples):
        raise MaskError("A matte needs a spot that is the subject.", "Click one.")
    return start("learn", number, {"mask": mask, "first": asked.first, "last": asked.last})


@blueprint.post("/shots/<int:number>/propose")
def propose(number: int):
    """Start looking for what moves by itself."""
    return start("propose", number, {})
