"""Bodies of a shot: what each is followed inside of, how its size is told, and its own solve, kept by hash.

`Shot.bodies` holds by key `name`, `mask` (id), `size` (kind and words, as `body_file.SizeOrder`), `axes` (`origin`, a
track's name, and `frame`), `probe` (whether its probe box is shown), `chosen` (ids of the shot's tracks that it is made
of, in place of a mask), `out` (names of tracks taken out of its solve), `proxies` (by key a `kind`, a `name` and the
names of the tracks that it goes through), and `solved`: the hashes of its solve's `document` and `arrays`, the attempt
of the camera that it was solved with, and figures. `attempts` are all its solves.
"""

import json
from dataclasses import dataclass

import numpy as np
from sqlalchemy.orm import Session

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import KeelError, TieError
from amberkeel.core.handoff.document import read_solution, solution_arrays, solve_document
from amberkeel.core.solve.reasons import as_document
from amberkeel.core.solve.solution import Solution
from amberkeel.core.ties.bodies.body import Axes, Body
from amberkeel.core.ties.bodies.body_file import SizeOrder, placed_beside
from amberkeel.core.ties.bodies.proxies import body_proxy
from amberkeel.core.ties.bodies.tracks import same_spots
from amberkeel.core.tracks import TrackSet
from amberkeel.core.world.solids import Solid
from amberkeel.store.media import Media
from amberkeel.store.models import Attempt, Shot
from amberkeel.store.world import looked_at, pinned_of

MOST_ATTEMPTS = 20
"""Solves of a body that are kept, the last ones."""

MOST = 40
"""Bodies of a shot at the most."""


@dataclass(frozen=True)
class Placed:
    """A body in the shot's world: it, its own solve, the camera, and its proxies by key, each a name and triangles."""

    body: Body
    solution: Solution
    path: CameraPath
    proxies: dict[str, tuple[str, Solid]]


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
    body = placed_beside(path, scene, solution, order, _axes(kept.get("axes") or {}, solution))
    return Placed(body, solution, path, _proxies(kept.get("proxies") or {}, body, solution))


def _proxies(kept: dict[str, dict], body: Body, solution: Solution) -> dict[str, tuple[str, Solid]]:
    """Return what stands for a body by key: its name, and its triangles in the body's coordinates."""
    ids = dict(zip(solution.tracks.names, solution.tracks.ids.tolist()))
    at = {track: xyz for track, xyz in zip(body.ids.tolist(), body.points)}
    out = {}
    for key, one in kept.items():
        points = [at[ids[name]] for name in one["points"] if ids.get(name) in at]
        try:
            out[key] = one["name"], body_proxy(one["kind"], np.array(points).reshape(-1, 3))
        except KeelError:
            # Too few of its points are left in this attempt: it is there again with another one.
            continue
    return out


def _axes(kept: dict, solution: Solution) -> Axes:
    """Return what a body's own coordinates are; a track that another solve no longer has is left out."""
    ids = dict(zip(solution.tracks.names, solution.tracks.ids.tolist()))
    return Axes(ids.get(kept.get("origin", "")), kept.get("frame"))


def tracks_of(media: Media, kept: dict) -> TrackSet | None:
    """Return the tracks of a body's solve as they were followed; None where it is not solved."""
    return _solution(media, kept["solved"]).tracks if kept.get("solved") else None


def followed_anew(kept: dict, before: TrackSet, after: TrackSet) -> dict:
    """Return a body whose size, axes and proxies name the tracks that follow what was meant; what was told of spots
    that are not followed any more is let go.

    Parameters
    ----------
    kept : the body. before, after : its tracks, followed twice.
    """
    size, axes = kept.get("size") or {}, kept.get("axes") or {}
    ends = {"length": 2, "tie": 1}.get(size.get("kind", ""), 0)
    meant = {*size.get("words", [])[:ends], axes.get("origin", ""), *kept.get("out", [])}
    meant.update(name for one in (kept.get("proxies") or {}).values() for name in one["points"])
    now = same_spots(before, after, meant)
    out = {**kept, "out": [now[name] for name in kept.get("out", []) if name in now]}
    if ends:
        words = [now.get(word, "") for word in size["words"][:ends]] + size["words"][ends:]
        out["size"] = {**size, "words": words} if all(words) else None
    if axes.get("origin"):
        out["axes"] = {**axes, "origin": now.get(axes["origin"], "")}
    out["proxies"] = {
        key: {**one, "points": [now[name] for name in one["points"] if name in now]}
        for key, one in (kept.get("proxies") or {}).items()
    }
    return out


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
