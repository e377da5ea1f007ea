"""Which camera is it: simulated pans, swings and moves, told apart from tracks alone."""

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.lens import Lens
from amberkeel.core.solve.motions import FREE, NODAL, SWING
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.tracks import TrackSet, from_pieces

FRAMES = np.arange(1001, 1037)
SIZE = 640, 360
NOISE_PX = 0.1
SEEDS = range(1, 7)


def run() -> None:
    """Print for each kind of camera how often it is recognised, and how far off its focal length is."""
    print()
    for name, expected, path in (
        ("pan about the pupil", NODAL, _pan),
        ("pan 5 cm off the pupil", SWING, lambda rng: _pan(rng, 0.05)),
        ("slow creep", FREE, _creep),
        ("floor only", FREE, _creep),
    ):
        chosen, errors, scores = 0, [], []
        for seed in SEEDS:
            rng = np.random.default_rng(seed)
            true = path(rng)
            tracks = _observed(true, _points(rng, name == "floor only"), rng)
            solution = solve_tracks(tracks, FRAMES, *SIZE)
            chosen += solution.motion == expected
            focal, of = solution.path.lens.focal_px[0], true.lens.focal_px[0]
            errors.append(100.0 * (focal / of - 1.0))
            scores.append((focal - of) / max(solution.focal_sigma_px, 1e-9))
        print(
            f"{name}: {chosen} of {len(errors)} recognised as {expected}; focal length {_rms(errors):.2f} % RMS, "
            f"{np.abs(errors).max():.2f} % at most; error over stated sigma {_rms(scores):.2f} RMS"
        )


def _rms(values: list[float]) -> float:
    return float(np.sqrt(np.mean(np.square(values))))


def _pan(rng: np.random.Generator, arm: float = 0.0) -> CameraPath:
    """Return a pan of about 35 degrees with a nod, the pupil `arm` metres before the pivot."""
    t, nod = np.linspace(-1.0, 1.0, len(FRAMES)), rng.uniform(0.02, 0.06)
    turns = np.array([rotation_exp(np.array([nod * np.sin(3 * s), 0.3 * s, 0.02 * s * s])) for s in t])
    return CameraPath(FRAMES, turns @ np.array([0.0, 0.0, arm]), turns, _lens(rng))


def _creep(rng: np.random.Generator) -> CameraPath:
    """Return a move of a metre forwards and half a metre aside, the camera looking about a little."""
    t = np.linspace(0.0, 1.0, len(FRAMES))
    positions = np.stack([0.5 * t, 0.1 * np.sin(4 * t), 1.0 * t], 1)
    turns = np.array([rotation_exp(np.array([0.03 * np.sin(5 * s), -0.05 * s, 0.01 * s])) for s in t])
    return CameraPath(FRAMES, positions, turns, _lens(rng))


def _lens(rng: np.random.Generator) -> Lens:
    return Lens.centred(*SIZE, rng.uniform(500.0, 1100.0), rng.uniform(-0.08, 0.0))


def _points(rng: np.random.Generator, floor: bool) -> np.ndarray:
    """Return points (300, 3) 4 to 20 metres away on all sides that are seen, or on one floor."""
    heading, height = rng.uniform(-0.8, 0.8, 300), rng.uniform(-0.3, 0.3, 300)
    points = rng.uniform(4.0, 20.0, 300)[:, None] * np.stack([np.sin(heading), height, np.cos(heading)], 1)
    if floor:
        points[:, 1] = 1.6 + 0.05 * points[:, 0]
    return points


def _observed(path: CameraPath, points: np.ndarray, rng: np.random.Generator) -> TrackSet:
    """Return tracks of points with Gaussian noise, on the longest stretch on which each is in the picture."""
    px = np.array([path.project(points, k) for k in range(len(FRAMES))])
    ahead = np.array([path.to_camera(points, k)[:, 2] > 0.1 for k in range(len(FRAMES))])
    seen = ahead & ((px > 0) & (px < SIZE)).all(2)
    pieces, names = [], []
    for n in np.nonzero(seen.sum(0) >= 8)[0]:
        rows = np.nonzero(seen[:, n])[0]
        own = max(np.split(rows, np.nonzero(np.diff(rows) > 1)[0] + 1), key=len)
        noisy = px[own, n] + rng.normal(0.0, NOISE_PX, (len(own), 2))
        pieces.append((FRAMES[own], noisy, np.full(len(own), NOISE_PX), np.ones(len(own))))
        names.append(f"p{n:03d}")
    return from_pieces(names, pieces)
