"""Faults put into clean simulated shots: whether the right finding comes first, on the right frames and tracks."""

from collections import Counter
from collections.abc import Callable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.diagnose import depth, frames, model, movers, path, thin, tracks
from amberkeel.core.diagnose.diagnose import diagnose
from amberkeel.core.diagnose.evidence import Measures
from amberkeel.core.diagnose.finding import CALM, MINOR, Finding
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.lens import Lens
from amberkeel.core.solve.recipe import NO_ROWS, Recipe
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.tracks import TrackSet, from_pieces

TRIES = 20
FIRST, FRAMES, POINTS, NOISE = 1001, 48, 150, 0.15
WIDTH, HEIGHT, FOCAL = 960, 540, 1000.0
OVERLAP = 0.7
"""Frames or tracks found and meant in common, over all of both, from which they count as the right ones."""


@dataclass
class Scene:
    """A simulated shot that a fault is put into: camera, points, what is seen of them (F, N, 2), and what is asked."""

    path: CameraPath
    points: np.ndarray
    px: np.ndarray
    recipe: Recipe
    measures: Measures
    chance: np.random.Generator


@dataclass(frozen=True)
class Meant:
    """The kind that a fault must be found as, and the frames and names of tracks that it was put on, if any."""

    kind: str
    frames: tuple[int, ...] = ()
    tracks: tuple[str, ...] = ()


Fault = Callable[[Scene], Meant]


def scene(seed: int) -> Scene:
    """Return a clean shot: a hand-held walk past points at many depths."""
    chance = np.random.default_rng(seed)
    t = np.arange(FRAMES, dtype=float)
    side, way = chance.choice([-1.0, 1.0]), chance.uniform(0.3, 1.0)
    wander = np.cumsum(np.cumsum(chance.normal(0.0, 6e-4, (FRAMES, 3)), 0), 0)
    positions = np.stack([0.06 * side * t, 0.01 * t, 0.05 * way * t], 1) + wander
    shake = np.cumsum(np.cumsum(chance.normal(0.0, 1.2e-4, (FRAMES, 3)), 0), 0)
    turns = np.array([rotation_exp(np.array([0.0005, -0.004 * side, 0.0003]) * k + s) for k, s in zip(t, shake)])
    camera = CameraPath(np.arange(FIRST, FIRST + FRAMES), positions, turns, Lens.centred(WIDTH, HEIGHT, FOCAL))
    points = chance.uniform([-6, -3, 4], [6, 3, 18], (POINTS, 3))
    measures = Measures({int(f): float(chance.uniform(0.0, 0.8)) for f in camera.frames})
    return Scene(camera, points, _seen(camera, points), Recipe(seed=seed), measures, chance)


def _seen(camera: CameraPath, points: np.ndarray) -> np.ndarray:
    return np.array([camera.project(points, k) for k in range(len(camera.frames))])


def _observed(made: Scene) -> TrackSet:
    """Return what is seen as tracks, with noise that is partly shared along each track."""
    shape = made.px.shape
    noise = made.chance.normal(0.0, NOISE, shape) + made.chance.normal(0.0, 0.4 * NOISE, (1, *shape[1:]))
    px, pieces, names = made.px + noise, [], []
    for n in range(shape[1]):
        inside = np.isfinite(px[:, n, 0]) & (px[:, n] > 4).all(1) & (px[:, n] < [WIDTH - 4, HEIGHT - 4]).all(1)
        if inside.sum() >= 10:
            count = int(inside.sum())
            pieces.append((made.path.frames[inside], px[inside, n], np.full(count, NOISE), np.ones(count)))
            names.append(f"p{n:03d}")
    return from_pieces(names, pieces)


def _long(made: Scene) -> int:
    """Return a point that is seen on all frames or nearly so."""
    inside = ((made.px > 4) & (made.px < [WIDTH - 4, HEIGHT - 4])).all(2).sum(0)
    return int(made.chance.choice(np.argsort(-inside)[:12]))


def _middle(made: Scene) -> int:
    return int(made.chance.integers(12, FRAMES - 12))


def jump(made: Scene) -> Meant:
    """One track steps aside and stays there."""
    n, k = _long(made), _middle(made)
    angle = made.chance.uniform(0, 2 * np.pi)
    made.px[k:, n] += made.chance.uniform(2.5, 6.0) * np.array([np.cos(angle), np.sin(angle)])
    return Meant(tracks.JUMP, (FIRST + k,), (f"p{n:03d}",))


def drift(made: Scene) -> Meant:
    """One track slides along."""
    n, angle = _long(made), made.chance.uniform(0, 2 * np.pi)
    way = np.linspace(0.0, made.chance.uniform(3.0, 6.0), FRAMES)[:, None]
    made.px[:, n] += way * np.array([np.cos(angle), np.sin(angle)])
    return Meant(tracks.DRIFT, (), (f"p{n:03d}",))


def bad_end(made: Scene) -> Meant:
    """One track's last frames wander off."""
    n, k = _long(made), FRAMES - int(made.chance.integers(6, 12))
    made.px[k:, n] += 2.0 + np.abs(np.cumsum(made.chance.normal(0.4, 0.6, (FRAMES - k, 2)), 0))
    return Meant(tracks.END, (), (f"p{n:03d}",))


def mover(made: Scene) -> Meant:
    """A group walks through."""
    count, start = int(made.chance.integers(9, 16)), made.chance.uniform([-1.5, -0.8, 6], [1.5, 0.8, 8])
    body = start + made.chance.uniform(-0.6, 0.6, (count, 3))
    t = np.arange(FRAMES)[:, None, None]
    way = np.concatenate([0.03 * t, 0.05 * np.sin(t / 2.5), 0.0 * t], 2)
    px = np.array([made.path.project(body + way[k], k) for k in range(FRAMES)])
    first = made.px.shape[1]
    made.px = np.concatenate([made.px, px], 1)
    return Meant(movers.GROUP, (), tuple(f"p{first + n:03d}" for n in range(count)))


def flash(made: Scene) -> Meant:
    """One frame on which all places are bad, and which is not blurred."""
    k = _middle(made)
    made.px[k] += made.chance.normal(0.0, 5 * NOISE, made.px[k].shape)
    return Meant(frames.FLASH, (FIRST + k,))


def blur(made: Scene) -> Meant:
    """Some frames on which all places are bad, and which are blurred."""
    k = _middle(made)
    rows = range(k, k + int(made.chance.integers(2, 5)))
    for row in rows:
        made.px[row] += made.chance.normal(0.0, 4 * NOISE, made.px[row].shape)
        made.measures.blur_px[FIRST + row] = float(made.chance.uniform(5, 12))
    return Meant(frames.BLUR, tuple(FIRST + row for row in rows))


def doubled(made: Scene) -> Meant:
    """A frame is there twice."""
    k = _middle(made)
    made.px = np.concatenate([made.px[:k], made.px[k - 1 : k], made.px[k:-1]])
    return Meant(frames.DOUBLED, (FIRST + k,))


def dropped(made: Scene) -> Meant:
    """A frame is lacking."""
    k = _middle(made)
    made.px = np.concatenate([made.px[:k], made.px[k + 1 :], np.full_like(made.px[:1], np.nan)])
    return Meant(frames.DROPPED, (FIRST + k,))


def knock(made: Scene) -> Meant:
    """The camera is knocked on one frame."""
    k = _middle(made)
    turns = made.path.world_from_camera.copy()
    axis = made.chance.normal(0.0, 1.0, 3)
    turns[k] = turns[k] @ rotation_exp(axis / np.linalg.norm(axis) * made.chance.uniform(0.004, 0.01))
    made.px = _seen(replace(made.path, world_from_camera=turns), made.points)
    return Meant(path.SPIKE, (FIRST + k,))


def few(made: Scene) -> Meant:
    """Hardly any track lives on some frames."""
    k, count = _middle(made), int(made.chance.integers(2, 6))
    kept = made.chance.permutation(made.px.shape[1])[:6]
    gone = np.ones(made.px.shape[1], bool)
    gone[kept] = False
    for row in range(k, k + count):
        made.px[row, gone] = np.nan
    return Meant(thin.FEW, tuple(FIRST + row for row in range(k, k + count)))


def distortion(made: Scene) -> Meant:
    """The lens distorts, and was taken not to."""
    lens = Lens.centred(WIDTH, HEIGHT, FOCAL, float(made.chance.uniform(0.04, 0.12) * made.chance.choice([-1, 1])))
    made.px = _seen(replace(made.path, lens=lens), made.points)
    made.recipe = replace(made.recipe, distortion="none")
    return Meant(model.DISTORTS)


def held_focal(made: Scene) -> Meant:
    """The focal length was stated wrongly."""
    wrong = 1.0 + made.chance.choice([-1.0, 1.0]) * made.chance.uniform(0.06, 0.25)
    made.recipe = replace(made.recipe, focal_px=FOCAL * float(wrong))
    return Meant(model.HELD_FOCAL)


def zoom(made: Scene) -> Meant:
    """The lens zooms, and was taken as fixed."""
    steps = np.cumsum(np.cumsum(made.chance.normal(0.0, 1e-4, FRAMES)))
    way = 1.0 + made.chance.uniform(0.02, 0.06) * np.sin(np.linspace(-1.5, 1.5, FRAMES)) + steps
    made.px = _seen(replace(made.path, zoom=way), made.points)
    return Meant(model.ZOOMS)


def rolling(made: Scene) -> Meant:
    """Rows are read in turn, and were taken as read at once."""
    camera = replace(made.path, readout=float(made.chance.uniform(0.3, 0.8)))
    rows = [camera.project_read(made.points, k) for k in range(FRAMES)]
    made.px = np.array(rows)
    made.recipe = replace(made.recipe, rows=NO_ROWS)
    return Meant(model.ROLLS)


def pan(made: Scene) -> Meant:
    """A camera that only turns, solved as one that moves."""
    camera = replace(made.path, positions=np.zeros_like(made.path.positions))
    made.px = _seen(camera, made.points)
    made.recipe = replace(made.recipe, motion="free")
    return Meant(depth.NO_PARALLAX)


FAULTS: tuple[Fault, ...] = (
    jump, drift, bad_end, mover, flash, blur, doubled, dropped, knock, few, distortion, held_focal, zoom, rolling, pan,
)  # fmt: skip


def _overlap(found: Any, meant: Any) -> float:
    one, other = set(found), set(meant)
    return len(one & other) / max(len(one | other), 1)


def _diagnosed(made: Scene) -> tuple[list[Finding], TrackSet]:
    seen = _observed(made)
    solution = solve_tracks(seen, made.path.frames, WIDTH, HEIGHT, made.recipe)
    return diagnose(solution, made.measures), seen


def judged(fault: Fault, seed: int) -> tuple[bool, bool, list[str]]:
    """Return whether a fault was found among the first two findings, whether on the right frames and tracks, and the
    kinds that were found.
    """
    made = scene(seed)
    meant = fault(made)
    found, seen = _diagnosed(made)
    own = next((one for one in found[:2] if one.kind == meant.kind), None)
    if own is None:
        return False, False, [one.kind for one in found]
    names = dict(zip(seen.ids.tolist(), seen.names))
    right = (not meant.frames or _overlap(own.frames, meant.frames) >= OVERLAP) and (
        not meant.tracks or _overlap([names[i] for i in own.tracks], set(meant.tracks) & set(seen.names)) >= OVERLAP
    )
    return True, right, [one.kind for one in found]


def clean(seed: int) -> list[str]:
    """Return the kinds of findings above minor on a clean shot."""
    return [one.kind for one in _diagnosed(scene(seed))[0] if one.severity not in (MINOR, CALM)]


def run() -> None:
    """Print how many of each fault are found, and what is found on clean shots."""
    right, placed, count = 0, 0, 0
    print()
    for fault in FAULTS:
        results = [judged(fault, seed) for seed in range(TRIES)]
        found, well = sum(r[0] for r in results), sum(r[1] for r in results)
        right, placed, count = right + found, placed + well, count + TRIES
        missed = Counter(kind for ok, _, kinds in results if not ok for kind in (kinds[:2] or ["nothing"]))
        print(f"  {fault.__name__:11s} found {found:2d}, placed {well:2d} of {TRIES}   instead: {dict(missed)}")
    loud = [clean(1000 + seed) for seed in range(TRIES)]
    print(
        f"{len(FAULTS)} kinds of faults, {TRIES} of each: right kind among the first two {100 * right / count:.0f} % "
        f"(target 90), right frames and tracks {100 * placed / count:.0f} % (target 90); clean shots with a finding "
        f"above minor {sum(map(bool, loud))} of {TRIES} (target 0) {dict(Counter(k for many in loud for k in many))}"
    )
