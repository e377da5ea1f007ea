"""SKL_040, which has almost no parallax, with what is known of it: axis lines in the picture, six surveyed points."""

import numpy as np
from scipy.spatial import cKDTree

from amberkeel.core.follow import follow_plate
from amberkeel.core.lens.drawn import LensOrder, read_lines
from amberkeel.core.lens.fit import fit_lens
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.sim.drawn import drawn_lines
from amberkeel.core.sim.render import Renderer, surface_points, truth
from amberkeel.core.sim.shed_doors import edges, shed_doors
from amberkeel.core.solve.evidence.statement import Anchor
from amberkeel.core.solve.lens_plan import SOFT, LensChoice
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.tracks import TrackSet
from amberkeel.core.world.true_slip import slip_px
from benchmarks.shots import shot_folder

ANCHORS, SURVEY_M = 6, 0.005
"""Surveyed points, and one sigma of the survey, metres."""

ONE_SURFACE_PX, ONE_SURFACE = 9, 1.12
"""Half side of the window around a track, and ratio of its furthest to its nearest depth up to which it has one."""


def run() -> None:
    """Print depths and slip without and with what is known."""
    shot, plate = shed_doors(), open_plate(shot_folder("SKL_040") / "plate")
    path, tracks = truth(shot), follow_plate(plate)
    drawn = read_lines(drawn_lines(shot, edges(), int(shot.frames[0])), plate.width, plate.height)
    lines = fit_lens(drawn, LensOrder(plate.width, plate.height))
    known = {"focal": LensChoice(SOFT, lens_px := lines.lens.focal_px[0], max(lines.focal_sigma_px, 1e-3 * lens_px))}
    xyz, seen = surface_points(shot, 400)
    true = true_points(shot, tracks)
    print("\nSKL_040               depth error, median, 90 %   target   focal error   sigma     slip      target")
    for name, lens, anchored in (
        ("nothing known", {}, 0),
        ("axis lines", known, 0),
        ("lines, six points", known, ANCHORS),
    ):
        first = solve_tracks(tracks, plate.frames, plate.width, plate.height, Recipe(lens=lens))
        found = first
        if anchored:
            evidence = surveyed(first, true)
            recipe = Recipe(lens=lens, evidence=evidence, begin=first.path, motion="free")
            found = solve_tracks(tracks, plate.frames, plate.width, plate.height, recipe)
        error = depth_errors(found, true, bool(anchored))
        slip = slip_px(found.path, path, xyz, seen)
        focal, own = path.lens.focal_px[0], found.path.lens.focal_px[0]
        focus = f"{100 * (own / focal - 1):+8.3f} %  {100 * found.focal_sigma_px / own:6.3f} %"
        print(
            f"{name:20s}  {100 * np.median(error):8.2f} % {100 * np.percentile(error, 90):8.2f} %   "
            f"{'2 %' if anchored else '   '}   {focus}  {np.sqrt(np.nanmean(slip**2)):.4f} px  0.05 px"
        )


def true_points(shot, tracks: TrackSet) -> dict[int, np.ndarray]:
    """Return where each track that lies on one surface meets the set, metres, by the track's id."""
    renderer, path, depth, out = Renderer(shot), truth(shot), {}, {}
    for t in range(len(tracks)):
        rows = tracks.rows(t)
        k = rows.start + (rows.stop - rows.start) // 2
        frame, (x, y) = int(tracks.frames[k]), tracks.xy[k]
        row = path.index_of(frame)
        if row not in depth:
            depth[row] = renderer.depth(frame)
        r, c = int(y), int(x)
        near = depth[row][
            max(r - ONE_SURFACE_PX, 0) : r + ONE_SURFACE_PX + 1, max(c - ONE_SURFACE_PX, 0) : c + ONE_SURFACE_PX + 1
        ]
        if np.isfinite(near).all() and near.max() < ONE_SURFACE * near.min() and near.max() < 40.0:
            ray = np.append(path.lens.normalise(tracks.xy[k]), 1.0) * depth[row][r, c]
            out[int(tracks.ids[t])] = path.world_from_camera[row] @ ray + path.positions[row]
    return out


def surveyed(solution: Solution, true: dict[int, np.ndarray]) -> tuple[Anchor, ...]:
    """Return six of the longest good tracks, far apart on the set, anchored where a survey puts them."""
    rng, tracks = np.random.default_rng(40), solution.tracks
    good = [t for t in range(len(tracks)) if tracks.states[t] == "active" and int(tracks.ids[t]) in true]
    good = sorted(good, key=lambda t: -tracks.lengths[t])[: len(good) // 3]
    places = np.array([true[int(tracks.ids[t])] for t in good])
    chosen = [0]
    while len(chosen) < ANCHORS:
        chosen.append(int(np.argmax(cKDTree(places[chosen]).query(places)[0])))
    return tuple(
        Anchor(
            name=tracks.names[good[k]],
            track=int(tracks.ids[good[k]]),
            xyz=tuple((places[k] + rng.normal(0.0, SURVEY_M, 3)).tolist()),
            sigma=SURVEY_M,
        )
        for k in chosen
    )


def depth_errors(solution: Solution, true: dict[int, np.ndarray], in_world: bool) -> np.ndarray:
    """Return the relative error of the depths of used tracks from the first camera; about the best scale where the
    world is the solve's own.
    """
    tracks, camera = solution.tracks, solution.path.positions[0]
    xyz = solution.points.positions(camera)
    used = [t for t in range(len(tracks)) if tracks.states[t] == "active" and int(tracks.ids[t]) in true]
    own = np.array([np.linalg.norm(xyz[t] - camera) for t in used])
    first = truth(shed_doors(samples=1)).positions[0]
    real = np.array([np.linalg.norm(true[int(tracks.ids[t])] - first) for t in used])
    scale = 1.0 if in_world else float(np.median(real / own))
    return np.abs(scale * own / real - 1.0)
