"""Compile the numba loops ahead of the first job, on a small made-up problem."""

import fcntl
from collections.abc import Callable
from typing import cast

import numpy as np
from numba.core.caching import Cache

from amberkeel.core.camera import CameraPath
from amberkeel.core.diagnose.courses import COLUMNS, courses
from amberkeel.core.follow.detect import DetectSettings, find_features
from amberkeel.core.follow.patch import Patch, shifted
from amberkeel.core.follow.register import make_references, register_patches
from amberkeel.core.geometry.background import TURNING, RigidMotion
from amberkeel.core.lens import Lens
from amberkeel.core.lens.drawn import DrawnLine, LensOrder
from amberkeel.core.lens.fit import fit_lens
from amberkeel.core.masks.bend import matched
from amberkeel.core.masks.evidence import EvidenceReader
from amberkeel.core.masks.rigid import dense_residuals
from amberkeel.core.masks.shape import smooth
from amberkeel.core.plate.plate import Plate
from amberkeel.core.repair.drawn import draw_along
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.rough import RoughCamera
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.tracks import TrackSet, from_pieces
from amberkeel.core.world import rays
from amberkeel.core.world.planes import plane_under
from amberkeel.core.world.solids import sheet
from amberkeel.core.world.textures import texture_of

SMALL, LARGE = (90, 24), (300, 60)
"""Points and frames of a problem, and of one that is large enough for all the loops that take several threads."""


def warm_up() -> None:
    """Run the compiled loops of small problems once; seconds when nothing is cached, a moment otherwise. Those of large
    problems load when they are needed.
    """
    rng = np.random.default_rng(0)
    _pictures(rng)
    _solve(rng, *SMALL)


def warm_part(part: str) -> None:
    """Run the compiled loops of one of `PARTS` once, those of large problems too; about a minute for each where nothing
    is cached. Parts may be compiled at the same time by processes of their own.

    Parameters
    ----------
    part : its name.
    """
    save = Cache.save_overload
    with open(__file__) as turn:

        def saved_in_turn(cache: Cache, signature: object, loop: object) -> None:
            # Two that add to one loop's index at once would leave it with the other's code.
            fcntl.flock(turn, fcntl.LOCK_EX)
            try:
                save(cache, signature, loop)
            finally:
                fcntl.flock(turn, fcntl.LOCK_UN)

        Cache.save_overload = saved_in_turn  # type: ignore[method-assign]
        try:
            PARTS[part](np.random.default_rng(0))
        finally:
            Cache.save_overload = save  # type: ignore[method-assign]


def _pictures(rng: np.random.Generator) -> None:
    """Run the loops that look at pictures, lines and scenes."""
    picture = rng.integers(0, 255, (64, 64)).astype(np.float32)
    size, xy = 15, np.array([[32.0, 32.0]])
    patches, gradients = np.zeros((1, size, size), np.float32), np.zeros((1, size, size, 2), np.float32)
    inverses, made = np.zeros((1, 8, 8)), np.zeros(1, np.bool_)
    make_references(picture, xy, 7, 1.0, patches, gradients, inverses, made)
    states = np.array([[32.0, 32.0, 1.0, 0.0, 0.0, 1.0, 1.0, 0.0]])
    register_patches(picture, patches, gradients, inverses, 7, states, 2, np.zeros((1, 3)), np.zeros(1, np.int64))
    find_features(picture.astype(np.uint8), DetectSettings(count=20))
    patch = Patch(picture, 32.0, 32.0, (8, 8))
    patch.fit(picture, shifted(32.0, 32.0), 2)
    lines = [
        DrawnLine(np.array([[20.0, y], [300.0, y + 3.0], [600.0, y - 2.0]]), axis)
        for y, axis in ((40.0, "x"), (300.0, "x"), (90.0, "z"), (200.0, "z"))
    ]
    fit_lens(lines, LensOrder(640, 360, radial=1)).lens.folds()
    sheet = np.zeros((9, 9), np.float32)
    draw_along(picture, xy, np.zeros((1, 3, 2)), np.eye(2)[None], 4, sheet)
    courses(np.array([0, 12]), rng.normal(size=(12, 2)), np.arange(12), np.zeros((1, COLUMNS)))
    _look_for_motion(rng)
    _stand_in_a_scene(rng)


def _solves(rng: np.random.Generator) -> None:
    for size in (SMALL, LARGE):
        _solve(rng, *size)


def _solve(rng: np.random.Generator, count: int, frames: int) -> None:
    solve_tracks(_toy_tracks(rng, count, frames), np.arange(1, frames + 1), 640, 360, Recipe())


def _sets(rng: np.random.Generator) -> None:
    """Run the loops of the simulator, which the demo and the tests need: a still of the smallest set."""
    from amberkeel.core.sim.cells import nearest_two
    from amberkeel.core.sim.net_loft import net_loft
    from amberkeel.core.sim.render import render_all

    nearest_two(rng.uniform(size=(40, 2)), 1.0, 16)
    list(render_all(net_loft(64, 36, frames=1, samples=1)))


PARTS: dict[str, Callable[[np.random.Generator], None]] = {"solves": _solves, "pictures": _pictures, "sets": _sets}
"""Loops that are compiled at the same time."""


class _ToyPlate:
    """A few frames of noise that slides sideways, with a part that does not, as a plate."""

    width, height, frames = 160, 96, np.arange(1, 26)

    def __init__(self, rng: np.random.Generator):
        self._noise = rng.integers(0, 255, (self.height, self.width + 30, 3)).astype(np.uint8)

    def read(self, frame: int) -> np.ndarray:
        out = self._noise[:, frame : frame + self.width].copy()
        out[30:70, 50:110] = self._noise[-40:, -60:][:, :: 1 - 2 * (frame % 2)]
        return out

    def gray(self, frame: int) -> np.ndarray:
        return self.read(frame)[..., 1].copy()


def _look_for_motion(rng: np.random.Generator) -> None:
    plate = _ToyPlate(rng)
    EvidenceReader(cast(Plate, plate), RoughCamera(_standing(plate.frames), "free", 0.1)).read(13)
    ring = np.array([[20.0, 20.0], [60.0, 22.0], [58.0, 60.0], [22.0, 58.0]])
    matched(smooth(ring), ring)
    dense_residuals(np.zeros((9, 9, 2), np.float32), RigidMotion(TURNING, np.eye(3), 1.0))


def _stand_in_a_scene(rng: np.random.Generator) -> None:
    """Run the loops of the world stage: a plane under a pixel, a ray, a texture from two frames."""
    path, flat = _standing(np.arange(1, 3)), rng.uniform(-1.0, 1.0, (20, 3)) * [1.0, 1.0, 0.0] + [0.0, 0.0, 4.0]
    plane_under(path, 0, np.array([80.0, 48.0]), flat)
    card = sheet(np.array([-1.0, -1.0, 4.0]), np.array([2.0, 0.0, 0.0]), np.array([0.0, 2.0, 0.0]))
    rays.cast(np.zeros(3), np.array([[0.0, 0.0, 1.0]]), card.triangles)
    grey = np.full((96, 160, 3), 120.0, np.float32)
    texture_of(path, card, [card], np.arange(2), lambda _: grey, side=16)


def _standing(frames: np.ndarray) -> CameraPath:
    """Return a camera that stands still."""
    count = len(frames)
    return CameraPath(frames, np.zeros((count, 3)), np.tile(np.eye(3), (count, 1, 1)), Lens.centred(160, 96, 160))


def _toy_tracks(rng: np.random.Generator, count: int, last: int) -> TrackSet:
    """Return tracks of random points on frames 1 to `last`, seen by a camera that moves sideways."""
    points = rng.uniform([-3, -2, 4], [3, 2, 12], (count, 3))
    frames = np.arange(1, last + 1)
    pieces = []
    for p in points:
        q = p - np.stack([0.08 * frames, 0.01 * frames, 0.03 * frames], 1) * (24 / last)
        xy = 600.0 * q[:, :2] / q[:, 2:] + [320.0, 180.0] + rng.normal(0, 0.05, (last, 2))
        pieces.append((frames, xy, np.full(last, 0.05), np.ones(last)))
    return from_pieces([f"t{k}" for k in range(count)], pieces)
