"""Bodies of a shot: what each is followed inside of, how its size is told, and its own solve, kept by hash.

`Shot.bodies` holds by key `name`, `mask` (id), `size` (kind and words, as `body_file.SizeOrder`), and `solved`: the
hashes of its solve's `document` and `arrays`, the attempt of the camera that it was solved with, and figures.
"""

import json
from dataclasses import dataclass

from sqlalchemy.orm import Session

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import TieError
from amberkeel.core.handoff.document import read_solution, solution_arrays, solve_document
from amberkeel.core.solve.reasons import as_document
from amberkeel.core.solve.solution import Solution
from amberkeel.core.ties.bodies.body import Body
from amberkeel.core.ties.bodies.body_file import SizeOrder, placed_beside
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.world import looked_at, pinned_of

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
    return Placed(placed_beside(path, datum.apply(own.xyz[own.standing]), solution, order), solution, path)


def _solution(media: Media, solved: dict) -> Solution:
    reasons = {int(track): reason for track, reason in solved["reasons"].items()}
    return read_solution(json.loads(media.get(solved["document"])), media.get_arrays(solved["arrays"]), reasons)
