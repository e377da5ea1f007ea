"""Bodies of a shot: what each is followed inside of, how its size is told, and its own solve, kept by hash.

`Shot.bodies` holds by key `name`, `mask` (id), `size` (kind and words, as `body_file.SizeOrder`), `axes` (`origin`, a
track's name, and `frame`), `probe` (whether its probe box is shown), and `solved`: the hashes of its solve's `document`
and `arrays`, the attempt of the camera that it was solved with, and figures. `attempts` are all its solves.
"""

import json
from dataclasses import dataclass

from sqlalchemy.orm import Session

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import TieError
from amberkeel.core.handoff.document import read_solution, solution_arrays, solve_document
from amberkeel.core.solve.reasons import as_document
from amberkeel.core.solve.solution import Solution
from amberkeel.core.ties.bodies.body import Axes, Body
from amberkeel.core.ties.bodies.body_file import SizeOrder, placed_beside
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.world import looked_at, pinned_of

MOST_ATTEMPTS = 20
"""Solves of a body that are kept, the last ones."""

MOST = 40
"""Bodies of a shot at the most."""


@dataclass(frozen=True)
class Placed:
    """A body in the shot's world: it, its own solve, and the camera."""

    body: Body
    solution: Solution
    path: CameraPath


def own_body(shot: Shot, key: str) -> dict:
    """Return what is kept of a body; raises TieError where there is none."""
    found = (shot.bodies or {}).get(key)
    if found is None:
        raise TieError("That body is gone.", "Undo its deletion, or make another one.")
    return found


def kept_solution(media: Media, solution: Solution, camera: Attempt) -> dict:
    """Keep a body's own solve; return what its row holds of it.

    Parameters
    ----------
    media : where. solution : of the body's tracks. camera : the attempt whose camera it was solved with.
    """
    document = solve_document(solution)
    reasons = {str(track): as_document(reason) for track, reason in solution.reasons.items()}
    return {
        "document": media.put(json.dumps(document).encode()), "arrays": media.put_arrays(**solution_arrays(solution)),
        "reasons": reasons, "camera": camera.id, "attempt": camera.number, "rms_px": solution.rms_px,
        "check_rms_px": solution.check_rms_px, "tracks": solution.counts["tracks_used"],
        "frames": [int(solution.path.frames[0]), int(solution.path.frames[-1])],
    }  # fmt: skip


def placed(session: Session, media: Media, shot: Shot, key: str) -> Placed:
    """Return a body in the shot's world as it is now.

    Parameters
    ----------
    session, media : where it is kept. shot : its shot. key : of the body.

    Raises
    ------
    TieError : it is not solved, or its size is told by what is not there.
    """
    kept = own_body(shot, key)
    if not kept.get("solved"):
        raise TieError(f"{kept['name']} is not solved yet.", "Solve it first.")
    attempt = pinned_of(session, shot, "a body stands in its camera's world")
    own, datum = looked_at(media, shot, attempt)
    path = datum.camera(own.path)
    solution = _solution(media, kept["solved"])
    size = kept.get("size") or {}
    order = SizeOrder(size.get("kind", ""), tuple(size.get("words", ())))
    scene = datum.apply(own.xyz[own.standing])
    return Placed(placed_beside(path, scene, solution, order, _axes(kept.get("axes") or {}, solution)), solution, path)


def _axes(kept: dict, solution: Solution) -> Axes:
    """Return what a body's own coordinates are; a track that another solve no longer has is left out."""
    ids = dict(zip(solution.tracks.names, solution.tracks.ids.tolist()))
    return Axes(ids.get(kept.get("origin", "")), kept.get("frame"))


def with_attempt(kept: dict, solved: dict) -> dict:
    """Return a body with another solve, in use and among its attempts.

    Parameters
    ----------
    kept : the body. solved : as `kept_solution` has it.
    """
    return {**kept, "solved": solved, "attempts": [*kept.get("attempts", []), solved][-MOST_ATTEMPTS:]}


def _solution(media: Media, solved: dict) -> Solution:
    reasons = {int(track): reason for track, reason in solved["reasons"].items()}
    return read_solution(json.loads(media.get(solved["document"])), media.get_arrays(solved["arrays"]), reasons)
