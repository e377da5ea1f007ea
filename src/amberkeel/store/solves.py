"""Attempts: storing solutions, and reading them back for pages and files."""

import json

import numpy as np
from sqlalchemy import func, select
from sqlalchemy.orm import Session

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import WorldError
from amberkeel.core.handoff.document import solve_document
from amberkeel.core.lens.profile import read_lens
from amberkeel.core.solve.solve import Solution
from amberkeel.core.world import IDENTITY, Datum, DrawnAxes, make_datum
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Shot, Track


def store_attempt(session: Session, media: Media, shot: Shot, solution: Solution, ids: list[int], stamp: int, mask_count: int = 0) -> Attempt:
    """Store a solution as the shot's next attempt. `ids` are the track rows in the solution's order;
    `mask_count` is how many masks the tracks were followed with."""
    plate = shot.plate
    document = solve_document(solution, plate=plate.label, fps=plate.fps)
    mm = plate.sensor_width_mm / plate.width
    figures = {
        **document["quality"],
        "focal_px": solution.path.lens.focal_px[0],
        "focal_mm": solution.path.lens.focal_px[0] * mm,
        "focal_sigma_mm": solution.focal_sigma_px * mm,
        "k1": solution.path.lens.radial[0],
        "lens_notes": solution.lens_report.notes,
    }
    lengths = solution.tracks.lengths
    errors = media.put_arrays(
        track=np.repeat(np.array(ids, np.int64), lengths),
        frame=solution.tracks.frames,
        residual=solution.residuals.astype(np.float32),
        set_aside=solution.set_aside,
        sigma=solution.tracks.sigma.astype(np.float32),
        track_id=np.array(ids, np.int64),
        track_rms=solution.track_rms.astype(np.float32),
        points=solution.points,
        frame_rms=solution.frame_rms,
    )
    number = (session.scalar(select(func.max(Attempt.number)).where(Attempt.shot_id == shot.id)) or 0) + 1
    attempt = Attempt(
        shot_id=shot.id,
        number=number,
        recipe=document["recipe"],
        snapshot={
            "tracks_stamp": stamp,
            "masks_stamp": shot.masks_stamp,
            "lens_stamp": shot.lens_stamp,
            "masks": mask_count,
            "states": dict(zip(map(str, ids), solution.tracks.states)),
            "reasons": {str(i): r for i, r in zip(ids, solution.reasons) if r},
        },
        figures=figures,
        document=media.put(json.dumps(document).encode()),
        errors=errors,
    )
    session.add(attempt)
    session.flush()
    return attempt


def ledger(session: Session, shot: Shot) -> list[Attempt]:
    """Return a shot's attempts, newest first."""
    return list(session.scalars(select(Attempt).where(Attempt.shot_id == shot.id).order_by(Attempt.number.desc())))


def document_of(media: Media, attempt: Attempt) -> dict:
    """Return an attempt's solve document in the solve's own coordinates."""
    return json.loads(media.get(attempt.document))


def _zoom(lens: dict, frames: list[dict]) -> np.ndarray | None:
    """Return what the focal length is multiplied by on each frame, or None where it stays."""
    share = np.array([f["focal_px"] for f in frames]) / lens["focal_px"][0]
    return None if np.abs(share - 1.0).max(initial=0.0) < 1e-9 else share


def path_of(document: dict) -> CameraPath:
    """Return the camera path of a solve document."""
    image, lens, frames = document["image"], document["lens"], document["frames"]
    return CameraPath(
        np.array([f["frame"] for f in frames]),
        np.array([f["position"] for f in frames]),
        np.array([f["world_from_camera"] for f in frames]),
        read_lens(image, lens),
        _zoom(lens, frames),
    )


def datum_of(session: Session, media: Media, shot: Shot, attempt: Attempt) -> Datum:
    """Return the shot's datum on an attempt's points; raises WorldError when its tracks have no points there."""
    chosen = shot.datum or {}
    if not chosen:
        return IDENTITY
    document = document_of(media, attempt)
    place = {p["track"]: np.array(p["xyz"]) for p in document["points"]}
    ids = [*chosen.get("ground", []), *chosen.get("origin", []), *chosen.get("scale", {}).get("tracks", [])]
    names = dict(session.execute(select(Track.id, Track.name).where(Track.id.in_(ids))).all())

    def point(track: int) -> np.ndarray:
        if names.get(track) not in place:
            raise WorldError(f"Track {names.get(track, track)} of the datum has no point in this attempt.", "Choose others.")
        return place[names[track]]

    ground = np.array([point(t) for t in chosen["ground"]]) if "ground" in chosen else None
    origin = point(chosen["origin"][0]) if "origin" in chosen else None
    scale = None
    if "scale" in chosen:
        a, b = chosen["scale"]["tracks"]
        scale = (point(a), point(b), chosen["scale"]["metres"])
    return make_datum(path_of(document), ground, origin, scale, _drawn_axes(chosen.get("axes")))


def _drawn_axes(kept: dict | None) -> DrawnAxes | None:
    """Return what a datum keeps of axis lines."""
    if not kept:
        return None
    place = kept.get("place")
    return DrawnAxes({int(f): np.array(r) for f, r in kept["rotations"].items()}, (int(place["frame"]), np.array(place["xyz"])) if place else None)


def in_world(document: dict, datum: Datum) -> dict:
    """Return a solve document taken to the datum's world."""
    path = datum.camera(path_of(document))
    frames = [
        {
            **f,
            "position": path.positions[k].tolist(),
            "world_from_camera": path.world_from_camera[k].tolist(),
            "position_sigma": f["position_sigma"] * datum.scale if f["position_sigma"] is not None else None,
        }
        for k, f in enumerate(document["frames"])
    ]
    points = [{**p, "xyz": datum.apply(np.array(p["xyz"])).tolist()} for p in document["points"]]
    return {**document, "frames": frames, "points": points}
