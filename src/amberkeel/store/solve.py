"""Attempts: storing solutions, and reading them back for pages and files."""

import json
from dataclasses import dataclass

import numpy as np
from sqlalchemy import select
from sqlalchemy.orm import Session

from amberkeel.core.camera import CameraPath
from amberkeel.core.diagnose.diagnose import diagnose
from amberkeel.core.diagnose.evidence import Measures
from amberkeel.core.diagnose.finding import finding_document
from amberkeel.core.handoff.camera_wording import begun_sentence
from amberkeel.core.handoff.document import read_path, read_solution, solution_arrays, solve_document, upgraded
from amberkeel.core.handoff.evidence_wording import missing_sentence
from amberkeel.core.handoff.solve_file import VERSION, SolveDocument, read_document
from amberkeel.core.points import PointSet, points_at
from amberkeel.core.solve.reasons import CHECK_MOVES, DISAGREES, Reason, as_document, read_reason
from amberkeel.core.solve.solution import Solution
from amberkeel.store.held import hold_shot
from amberkeel.store.masks import live_masks
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Plate, Shot


@dataclass(frozen=True)
class Stamps:
    """What an attempt is made from, as it was when the work on it began.

    Attributes
    ----------
    tracks, masks, lens : the shot's stamps. count : of masks that were switched on.
    """

    tracks: int
    masks: int
    lens: int
    count: int = 0


def stamps_of(session: Session, shot: Shot) -> Stamps:
    """Return what an attempt is made from that is begun now."""
    on = len([mask for mask in live_masks(session, shot) if mask.on])
    return Stamps(shot.tracks_stamp, shot.masks_stamp, shot.lens_stamp, on)


def stamps_like(attempt: Attempt, tracks: int) -> Stamps:
    """Return what an attempt is made from that begins with another one's camera and lens, on tracks of a stamp."""
    kept = attempt.snapshot
    return Stamps(tracks, kept.get("masks_stamp", 0), kept.get("lens_stamp", 0), kept.get("masks", 0))


def store_attempt(
    session: Session,
    media: Media,
    shot: Shot,
    solution: Solution,
    stamps: Stamps,
    parent: int | None = None,
    seconds: float = 0.0,
    measuring: bool = False,
) -> Attempt:
    """Store a solution as the shot's next attempt.

    `stamps` says what it was made from, read when its work began; `parent` is the attempt that it was refined from;
    `seconds` what the solve took; `measuring` whether it is not known yet how sure it is (`complete` then ends it).
    """
    # Counted on the held shot, and not from the rows that are there: two never get the same number.
    shot = hold_shot(session, shot.id) or shot
    shot.attempts += 1
    attempt = Attempt(
        shot_id=shot.id,
        number=shot.attempts,
        snapshot={
            "tracks_stamp": stamps.tracks,
            "masks_stamp": stamps.masks,
            "lens_stamp": stamps.lens,
            "masks": stamps.count,
            "parent": parent,
        },
    )
    _fill(attempt, media, shot, solution, seconds, measuring)
    session.add(attempt)
    session.flush()
    return attempt


def complete(session: Session, media: Media, shot: Shot, attempt: Attempt, solution: Solution, seconds: float) -> None:
    """Put what was found in the end into an attempt that was stored while it was still being measured."""
    _fill(attempt, media, shot, solution, seconds, False)
    session.flush()


def unfinished(session: Session, shot: Shot, parent: int | None) -> Attempt | None:
    """Return the attempt that was stored from a parent while it was being measured, and never completed: its worker was
    lost.
    """
    left = Attempt.figures["measuring"].as_boolean()
    own = select(Attempt).where(Attempt.shot_id == shot.id, left).order_by(Attempt.id.desc())
    return next((row for row in session.scalars(own) if row.snapshot.get("parent") == parent), None)


def _fill(attempt: Attempt, media: Media, shot: Shot, solution: Solution, seconds: float, measuring: bool) -> None:
    """Put a solution into an attempt's row."""
    plate = shot.plate
    document = solve_document(solution, plate=plate.label, fps=plate.fps)
    mm = plate.sensor_width_mm / plate.width
    attempt.recipe, attempt.document = document["recipe"], media.put(json.dumps(document).encode())
    attempt.errors = media.put_arrays(**solution_arrays(solution))
    attempt.snapshot = {
        **attempt.snapshot,
        "states": dict(zip(map(str, solution.tracks.ids.tolist()), solution.tracks.states)),
        "reasons": {str(track): as_document(reason) for track, reason in solution.reasons.items()},
    }
    attempt.figures = {
        **document["quality"],
        "focal_px": solution.path.lens.focal_px[0],
        "focal_mm": solution.path.lens.focal_px[0] * mm,
        "focal_sigma_mm": solution.focal_sigma_px * mm,
        "k1": solution.path.lens.radial[0],
        "stopped": solution.stopped,
        "begun": begun_sentence(document.get("begun")),
        "seconds": round(seconds, 2),
        "camera_motion": solution.motion,
        "readout": solution.path.readout,
        "rivals": document["rivals"],
        "terms": document["terms"],
        "standing": document["standing"],
        "missing": missing_sentence(solution.missing_frames.tolist(), solution.path.frames.tolist()),
        "lens_notes": [as_document(note) for note in solution.lens_report.notes],
        "measuring": measuring,
        "findings": [] if measuring else [finding_document(one) for one in diagnose(solution, measures_of(plate))],
    }


def measures_of(plate: Plate) -> Measures:
    """Return what was measured on a plate when it came in."""
    return Measures({plate.first + k: float(v) for k, v in enumerate(plate.blur.get("length", []))})


def ledger(session: Session, shot: Shot) -> list[Attempt]:
    """Return a shot's attempts, newest first, without those removed."""
    kept = select(Attempt).where(Attempt.shot_id == shot.id, ~Attempt.removed)
    return list(session.scalars(kept.order_by(Attempt.number.desc())))


def document_of(media: Media, attempt: Attempt) -> SolveDocument:
    """Return an attempt's solve document in the solve's own coordinates."""
    document = json.loads(media.get(attempt.document))
    return read_document(document if document["version"] >= VERSION else upgraded(document, _known_ids(media, attempt)))


def path_of(media: Media, attempt: Attempt) -> CameraPath:
    """Return an attempt's camera in the solve's own coordinates."""
    return read_path(document_of(media, attempt))


def _known_ids(media: Media, attempt: Attempt) -> np.ndarray:
    """Return the ids of the tracks that have a point, in the document's order."""
    points = points_of(media, attempt)
    return points.ids[points.known]


def arrays_of(media: Media, attempt: Attempt) -> dict[str, np.ndarray]:
    """Return an attempt's tracks, points and residuals as `solution_arrays` names them."""
    arrays = media.get_arrays(attempt.errors)
    return {("outlier" if name == "set_aside" else name): values for name, values in arrays.items()}


def points_of(media: Media, attempt: Attempt) -> PointSet:
    """Return an attempt's points by track id, in the solve's own coordinates."""
    arrays = arrays_of(media, attempt)
    points = arrays["points"]
    return PointSet(arrays["track_id"], points) if points.shape[1] == 4 else points_at(arrays["track_id"], points)


def reasons_of(attempt: Attempt) -> dict[int, Reason]:
    """Return why tracks did not count, by track id."""
    out = {}
    for track, kept in attempt.snapshot["reasons"].items():
        if isinstance(kept, dict):
            out[int(track)] = read_reason(kept)
        else:
            out[int(track)] = Reason(CHECK_MOVES if "check" in kept else DISAGREES)
    return out


def solution_of(media: Media, attempt: Attempt) -> Solution:
    """Return an attempt as core's solution, able to be judged again."""
    reasons = {track: as_document(reason) for track, reason in reasons_of(attempt).items()}
    return read_solution(document_of(media, attempt), arrays_of(media, attempt), reasons)
