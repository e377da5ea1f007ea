"""Ties against the simulator's truth: the quay's passes in one world by tags and by pictures, and many shots."""

import json
import time
from pathlib import Path

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.follow.tags import follow_tags
from amberkeel.core.geometry.rotations import look_at
from amberkeel.core.handoff.document import read_path
from amberkeel.core.handoff.track_table import tracks_csv
from amberkeel.core.lens import Lens
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.progress import silent
from amberkeel.core.sim.render import Renderer, seen_on, surface_points, truth
from amberkeel.core.sim.shots import SHOTS
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.solve_plate import SolveOrder, solve_plate
from amberkeel.core.ties.make_set import SetOrder, make_set
from amberkeel.core.ties.set_file import set_text
from amberkeel.core.ties.tie_plate import TieOrder, tie_plate
from amberkeel.core.ties.together import JointShot, SameSpot, adjusted_together
from amberkeel.core.tracks import from_pieces
from amberkeel.core.world.align import similarity
from amberkeel.core.world.true_slip import placed_by, slip_px
from benchmarks.peak import peak_bytes
from benchmarks.shots import shot_folder

CLEAN, LIVE = "SKL_060", "SKL_061"
POINTS = 500
AWAY_M = 10.0
"""Distance at which both passes are compared, metres."""

MANY, FRAMES = 10, 100


def run() -> None:
    """Print how both passes agree, each one's own slip, and what adjusting many shots takes."""
    clean, live = (shot_folder(name) for name in (CLEAN, LIVE))
    known = clean / "solved"
    if not (known / "solve.json").exists():
        known.mkdir(exist_ok=True)
        for name, text in solve_plate(SolveOrder(str(clean / "plate")), silent).items():
            (known / name).write_text(text)
        (known / "tags.csv").write_text(tracks_csv(follow_tags(open_plate(str(clean / "plate")))[0]))
    before = (known / "solve.json").read_bytes()
    order = SetOrder("Quay", solve=known / "solve.json", tags=known / "tags.csv", plate=str(clean / "plate"))
    (known / "set.json").write_text(set_text(make_set(order, known)))
    for by, target in (("tags", 5.0), ("pictures", 10.0)):
        began = time.perf_counter()
        solve = SolveOrder(str(live / "plate"), mattes=str(live / "mattes"))
        files = tie_plate(TieOrder(solve, known / "set.json", by), silent)
        _print_agreement(by, target, known, files, time.perf_counter() - began)
    print(f"the reference's solve.json is {'the same' if before == (known / 'solve.json').read_bytes() else 'CHANGED'}")
    many()


def _print_agreement(by: str, target: float, known: Path, files: dict[str, str], seconds: float) -> None:
    fixed, own = (read_path(json.loads(text)) for text in ((known / "solve.json").read_text(), files["solve.json"]))
    first, second = (SHOTS[name](samples=1) for name in (CLEAN, LIVE))
    xyz, seen = surface_points(first, POINTS)
    seen_too = _seen(second, xyz)
    both = (seen.sum(0) >= 8) & (seen_too.sum(0) >= 8)
    xyz, seen, seen_too = xyz[both], seen[:, both], seen_too[:, both]
    places = [
        placed_by(path, truth(shot), xyz, on) for path, shot, on in ((fixed, first, seen), (own, second, seen_too))
    ]
    a, b = (p[:, :3] / p[:, 3:] for p in places)
    scale = similarity(fixed.positions, truth(first).positions).scale
    away = np.linalg.norm(xyz[None] - truth(second).positions[::10, None], axis=2).min(0)
    off = 1000.0 * scale * np.linalg.norm(a - b, axis=1) * AWAY_M / away
    middle = len(own.frames) // 2
    px = np.linalg.norm(own.project(a, middle) - own.project(b, middle), axis=1)
    slips = [slip_px(p, truth(s), xyz, on) for p, s, on in ((fixed, first, seen), (own, second, seen_too))]
    report = json.loads(files["tie.json"])
    print(
        f"quay by {by}: {len(report['ties'])} ties, {len(a)} points seen by both agree within "
        f"{np.sqrt(np.nanmean(off**2)):.1f} mm RMS at {AWAY_M:.0f} m (target {target:.0f}), "
        f"{np.sqrt(np.nanmean(px**2)):.3f} px (target 0.1); own slip {np.nanmedian(slips[0]):.3f} and "
        f"{np.nanmedian(slips[1]):.3f} px (target 0.1); {seconds:.0f} s"
    )


def _seen(shot, xyz: np.ndarray) -> np.ndarray:
    """Return which points (P, 3) are in the picture and not covered, (F, P), by the shot's own depth."""
    renderer, path = Renderer(shot), truth(shot)
    return np.array([seen_on(renderer, path, row, xyz) for row in range(len(shot.frames))])


def many() -> None:
    """Print what adjusting ten shots of a hundred frames together takes."""
    rng = np.random.default_rng(0)
    points = rng.uniform([-6, 0, -9], [6, 4, -1], (600, 3))
    shots, seen = [], {}
    for k in range(MANY):
        path = _walk(rng, k)
        tracks = _tracks(rng, path, points)
        own = solve_tracks(tracks, path.frames, path.lens.width, path.lens.height)
        shots.append(JointShot(f"shot {k}", own, similarity(own.path.positions, path.positions)))
        for track, name in zip(tracks.ids.tolist(), tracks.names):
            seen.setdefault(name, []).append((k, track))
    spots = [SameSpot(tuple(spot)) for spot in list(seen.values())[:60] if len(spot) > 1]
    began = time.perf_counter()
    adjusted_together(shots, spots)
    print(
        f"{MANY} shots of {FRAMES} frames adjusted together: {time.perf_counter() - began:.0f} s (target 60), "
        f"{peak_bytes() / 2**30:.1f} GiB (target 3)"
    )


def _walk(rng: np.random.Generator, k: int) -> CameraPath:
    u, at = np.linspace(0, 1, FRAMES), rng.uniform(-3, 3)
    places = np.stack([at + 2.5 * u, 1.6 + 0.05 * np.sin(9 * u), 4 + 0.8 * np.sin(2 * u + k)], 1)
    places = places + rng.normal(0, 0.003, places.shape)
    turns = np.array([look_at(p, np.array([0.3 * at, 1.2, -5.0]), 0.0) for p in places])
    return CameraPath(np.arange(1001, 1001 + FRAMES), places, turns, Lens.centred(960, 540, 900.0 + 40 * k, -0.02))


def _tracks(rng: np.random.Generator, path: CameraPath, points: np.ndarray):
    px = np.array([path.project(points, row) for row in range(FRAMES)])
    inside = ((px > 5) & (px < [955, 535])).all(2)
    names, pieces = [], []
    for n in rng.permutation(len(points))[:400]:
        on = np.nonzero(inside[:, n])[0]
        if len(on) >= 8:
            xy = px[on, n] + rng.normal(0, 0.1, (len(on), 2))
            pieces.append((path.frames[on], xy, np.full(len(on), 0.1), np.ones(len(on))))
            names.append(f"p{n:03d}")
    return from_pieces(names, pieces)
