"""Shots aligned by files: two solves, and what ties them, without browser or database."""

import json
from copy import deepcopy
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from amberkeel.core.errors import TieError
from amberkeel.core.foreign.texts import rows_in
from amberkeel.core.handoff.document import read_path
from amberkeel.core.handoff.solve_file import SolveDocument
from amberkeel.core.handoff.track_table import Extent, read_tracks_csv
from amberkeel.core.ties.align import Alignment, Ties, align, seen_off
from amberkeel.core.ties.located import located
from amberkeel.core.tracks import EXCLUDED
from amberkeel.core.world.datum import Datum
from amberkeel.core.world.from_files import load_solve, solved_in

MOST_TIES = 500

FAR_PX = 3.0
"""Residual of a tag in its own shot above which it is no tie, pixels RMS."""


@dataclass(frozen=True)
class AlignFiles:
    """What is aligned: the solve that stays, the one that is brought to it, and what ties them: tables of tags of both,
    or a table of ties.
    """

    fixed: Path
    own: Path
    tags: tuple[Path, Path] | None
    ties: Path | None
    out: Path


def align_files(order: AlignFiles) -> tuple[Alignment, list[str]]:
    """Write the second solve in the first one's world (solve.json) and what its ties say (align.json); return that and
    the ties' names.

    Raises
    ------
    KeelError : a file cannot be read, or the ties align nothing.
    """
    documents = load_solve(order.fixed), load_solve(order.own)
    if order.tags:
        spots = [tags_in(path, document) for path, document in zip(order.tags, documents)]
        names = [name for name in spots[0] if name in spots[1]]
        if not names:
            raise TieError("No tag is seen in both shots.", "Were both printed from one family, and in the picture?")
        pairs = [(spots[0][name], spots[1][name]) for name in names]
    else:
        assert order.ties is not None
        names, pairs = _pairs(order.ties, *documents)
    ties = Ties(
        names, np.array([own[0] for _, own in pairs]), np.array([fixed[0] for fixed, _ in pairs]),
        np.array([own[1] for _, own in pairs]), np.array([fixed[1] for fixed, _ in pairs]),
    )  # fmt: skip
    found = align(ties)
    order.out.mkdir(parents=True, exist_ok=True)
    brought = moved_document(documents[1], found.change)
    (order.out / "solve.json").write_text(json.dumps(brought, allow_nan=False))
    px = seen_off(read_path(documents[0]), ties, found.change)
    (order.out / "align.json").write_text(json.dumps(align_document(ties, found, px), indent=1, allow_nan=False))
    return found, names


def read_text(path: Path) -> str:
    """Return a file's text; raises TieError where it cannot be read."""
    try:
        return path.read_text()
    except (OSError, UnicodeDecodeError) as error:
        raise TieError(f"{path.name} cannot be read.") from error


def tags_in(path: Path, document: SolveDocument) -> dict[str, tuple[np.ndarray, np.ndarray]]:
    """Return where tags lie by a solve's camera, with their covariances, by name; raises KeelError where the table is
    none.
    """
    camera = read_path(document)
    extent = Extent(camera.frames, camera.lens.width, camera.lens.height)
    tracks = read_tracks_csv(read_text(path), extent)
    out = {}
    for t, name in enumerate(tracks.names):
        own = slice(int(tracks.first[t]), int(tracks.first[t + 1]))
        rows = camera.rows_of(tracks.frames[own])
        seen = rows >= 0
        found = located(camera, rows[seen], tracks.xy[own][seen], tracks.sigma[own][seen])
        if found is not None and found.rms < FAR_PX:
            # A tag's errors go together over frames; its residual says more of them than their number.
            out[name] = found.xyz, found.covariance * max(float(seen.sum()), 1.0)
    return out


def _pairs(path: Path, fixed: SolveDocument, own: SolveDocument):
    """Return names and pairs of spots (position, covariance) that a table of ties names: a track of each solve."""
    rows = rows_in(read_text(path))
    if not rows or {"fixed", "own"} - set(rows[0]):
        raise TieError(
            f"{path.name} is no table of ties.", "Its first line names the columns fixed, own and perhaps name."
        )
    if len(rows) > MOST_TIES:
        raise TieError(f"{path.name} holds more than {MOST_TIES} ties.", "Choose the best of them.")
    known = [points_in(document) for document in (fixed, own)]
    names, pairs, lost = [], [], []
    for row in rows:
        ends = [points.get((row[key] or "").strip()) for points, key in zip(known, ("fixed", "own"))]
        if ends[0] is None or ends[1] is None:
            lost.append(f"{row['fixed']} – {row['own']}")
            continue
        names.append((row.get("name") or "").strip() or f"{row['fixed']} – {row['own']}")
        pairs.append((ends[0], ends[1]))
    if lost:
        raise TieError(
            f"{len(lost)} of these ties name a track without a point: {', '.join(lost[:4])}.",
            "It was excluded, or is not in that solve; take it out of the table.",
        )
    return names, pairs


def points_in(document: SolveDocument) -> dict[str, tuple[np.ndarray, np.ndarray]]:
    """Return a solve's points with their covariances, by their tracks' names."""
    solved = solved_in(document)
    excluded = {p["track"] for p in document["points"] if p["state"] == EXCLUDED}
    cov = np.zeros((len(solved.ids), 3, 3)) if solved.covariance is None else np.nan_to_num(solved.covariance)
    rows = zip(solved.ids.tolist(), solved.xyz, cov)
    return {solved.names[t]: (xyz, own) for t, xyz, own in rows if solved.names[t] not in excluded}


def moved_document(document: SolveDocument, change: Datum) -> SolveDocument:
    """Return a solve's document in another world; what is in pixels stays as it is.

    Parameters
    ----------
    document : of the solve. change : from its world to the other.
    """
    out = deepcopy(document)
    path = change.camera(read_path(document))
    for k, frame in enumerate(out["frames"]):
        frame["position"], frame["world_from_camera"] = path.positions[k].tolist(), path.world_from_camera[k].tolist()
        frame["position_sigma"] = _grown(frame["position_sigma"], change)
    for point in out["points"]:
        point["xyz"] = change.apply(np.array(point["xyz"])).tolist()
        point["sigma_along"] = _grown(point.get("sigma_along"), change)
        point["sigma_across"] = _grown(point.get("sigma_across"), change)
    return out


def _grown(length: float | None, change: Datum) -> float | None:
    return None if length is None else change.scale * length


def align_document(ties: Ties, found: Alignment, px: np.ndarray) -> dict:
    """Return what an alignment says, ready for JSON (docs/ties.md).

    Parameters
    ----------
    ties : as they were given. found : the alignment. px : (K,) how far each lies off in the fixed shot's pictures.
    """

    def known(value: float) -> float | None:
        return float(value) if np.isfinite(value) else None

    change = found.change
    return {
        "format": "amberkeel-align",
        "version": 1,
        "similarity": {
            "scale": change.scale, "rotation": change.rotation.tolist(), "translation": change.translation.tolist(),
        },
        "rms": found.rms,
        "spread": found.spread.tolist(),
        "notes": list(found.notes),
        "ties": [
            {
                "name": name, "off": float(found.off[k]), "off_px": known(px[k]), "sigmas": float(found.sigmas[k]),
                "wrong": bool(found.wrong[k]), "decides": known(found.decides[k]),
            }
            for k, name in enumerate(ties.names)
        ],
    }  # fmt: skip
