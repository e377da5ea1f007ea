"""Tracks against the simulator's truth: error and stated noise, bridging of blur bursts, tags, and the desk's pace."""

import time

import numpy as np

from amberkeel.core.follow import follow_plate
from amberkeel.core.follow.tags import find_tags
from amberkeel.core.pictures.read import to_gray
from amberkeel.core.plate.plate import Plate, matte_reader, open_plate
from amberkeel.core.sim.gangway import BURSTS
from amberkeel.core.sim.render import Renderer, Shot, render_all, surface_points, truth
from amberkeel.core.sim.shots import SHOTS
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.tracks import TrackSet
from amberkeel.core.world.true_slip import slip_px
from benchmarks.board import board_shot, true_corners
from benchmarks.shots import shot_folder

AROUND_PX = 9
ONE_SURFACE = 1.12
"""Ratio of the furthest to the nearest depth around a track up to which it lies on one surface, whose depth is its
own.
"""

LEAST = 12
"""Samples of a track whose error is measured."""

CORRECT_PX = 2.0
"""Error in a burst up to which a track counts as bridging it: a few pixels of blur's own middle are lost there."""


def errors(shot: Shot, tracks: TrackSet) -> dict[int, np.ndarray]:
    """Return the error (F, 2) of the samples of each track that lies on one surface, about their median, pixels.

    A track's spot of the set is where its middle sample meets the set.
    """
    renderer, path, depth, out = Renderer(shot), truth(shot), {}, {}
    for t in np.nonzero(tracks.lengths >= LEAST)[0]:
        frames, xy = tracks.frames[tracks.rows(t)], tracks.xy[tracks.rows(t)]
        k = len(frames) // 2
        row = path.index_of(frames[k])
        if row not in depth:
            depth[row] = renderer.depth(frames[k])
        x, y = xy[k].astype(int)
        near = depth[row][max(y - AROUND_PX, 0) : y + AROUND_PX + 1, max(x - AROUND_PX, 0) : x + AROUND_PX + 1]
        if near.max() > ONE_SURFACE * near.min():
            continue
        point = (
            path.world_from_camera[row] @ (np.append(path.lens.normalise(xy[k]), 1.0) * depth[row][y, x])
            + path.positions[row]
        )
        rows = np.searchsorted(path.frames, frames)
        miss = xy - path.project(np.repeat(point[None], len(rows), 0), rows)
        out[int(t)] = miss - np.median(miss, 0)
    return out


def run() -> None:
    """Print the tables."""
    print(
        "\nshot      tracks  measured  median error   target    over stated noise (target 0.67 to 1.5)   slip RMS   "
        "focal error"
    )
    for name, target in (("SKL_010", 0.05), ("SKL_070", 0.15), ("SKL_050", None)):
        folder, shot = shot_folder(name), SHOTS[name]()
        plate = open_plate(folder / "plate")
        tracks = follow_plate(plate, mattes=matte_reader(folder / "mattes", plate) if shot.scene.actors else None)
        miss = errors(shot, tracks)
        rms = np.array([np.sqrt((m**2).mean()) for m in miss.values()])
        share = np.array([np.sqrt(((m / tracks.sigma[tracks.rows(t)][:, None]) ** 2).mean()) for t, m in miss.items()])
        solution = solve_tracks(tracks, plate.frames, plate.width, plate.height)
        slip = slip_px(solution.path, truth(shot), *surface_points(shot, 400))
        focal = 100 * (solution.path.lens.focal_px[0] / shot.lens.focal_px[0] - 1)
        goal = f"{target:.2f} px" if target else "       "
        print(
            f"{name}  {len(tracks):6d}  {len(miss):8d}  {np.median(rms):9.3f} px   {goal}   {np.median(share):10.2f} "
            f"{'':29s} {np.sqrt(np.nanmean(slip**2)):.3f} px  {focal:+7.2f} %"
        )
        if name == "SKL_050":
            bridged(tracks, miss)
    tags()


def bridged(tracks: TrackSet, miss: dict[int, np.ndarray]) -> None:
    """Print how many tracks bridge each burst and are right on both sides of it."""
    for first, last in BURSTS:
        over = [
            t for t in miss if tracks.frames[tracks.first[t]] < first and tracks.frames[tracks.first[t + 1] - 1] > last
        ]
        right = [t for t in over if np.abs(miss[t][_outside(tracks, t, first, last)]).max() < CORRECT_PX]
        live = min(int((tracks.frames == f).sum()) for f in range(first, last + 1))
        print(
            f"  burst {first}-{last}: {len(right)} of {len(over)} measured tracks bridge it and are right (target "
            f"30); least live tracks {live}"
        )


def _outside(tracks: TrackSet, t: int, first: int, last: int) -> np.ndarray:
    frames = tracks.frames[tracks.rows(t)]
    return ((frames >= first - 3) & (frames < first)) | ((frames > last) & (frames <= last + 3))


def tags() -> None:
    """Print the corners' errors on a wall of tags, and the false names on the demo's plates."""
    shot = board_shot(samples=16)
    known, away, centres, wrong, spent = true_corners(shot), [], [], 0, []
    for k, (_, picture, _) in enumerate(render_all(shot)):
        gray, began = to_gray(picture), time.perf_counter()
        found = find_tags(gray)
        spent.append(time.perf_counter() - began)
        for tag in found:
            if tag.number not in known:
                wrong += 1
            elif tag.side >= 40.0:
                away.append(tag.corners - known[tag.number][k][:4])
                centres.append(tag.centre - known[tag.number][k][4])
    print(
        f"tags of 40 px and larger: corners {np.sqrt(np.mean(np.square(away))):.3f} px RMS a coordinate (target "
        f"0.1), centres {np.sqrt(np.mean(np.square(centres))):.3f} px; false names {wrong}; "
        f"{np.median(spent):.2f} s a frame of 960x540 (target 0.1)"
    )
    for name in SHOTS:
        print(f"  false names on {name}: {sum(map(len, _seen(open_plate(shot_folder(name) / 'plate'))))}")


def _seen(plate: Plate) -> list:
    return [find_tags(plate.gray(int(f))) for f in plate.frames[::4]]
