"""The world on the demo's plates: a datum, a mesh, slip and a projection against the simulated set, and their speed."""

import time
from dataclasses import replace

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.follow import follow_plate
from amberkeel.core.lens import Lens
from amberkeel.core.plate.plate import matte_reader, open_plate
from amberkeel.core.sim.render import Renderer, truth
from amberkeel.core.sim.shingle import ground_height
from amberkeel.core.sim.shots import SHOTS
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solution import Solution
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.tracks import ACTIVE
from amberkeel.core.world.datum import Datum, Solved, find_datum
from amberkeel.core.world.planes import plane_under, ray_of
from amberkeel.core.world.projection import MEDIAN, View, coloured, looked_up
from amberkeel.core.world.rays import cast
from amberkeel.core.world.relief import relief
from amberkeel.core.world.seen import points_seen, surface_seen
from amberkeel.core.world.slip import Spot, measure_slip, settled
from amberkeel.core.world.slip_lens import focal_by_slip
from amberkeel.core.world.slip_report import places
from amberkeel.core.world.standing import Proxy, solid_of
from amberkeel.core.world.statement import Distance, Statement
from amberkeel.core.world.under import Sight
from benchmarks.shots import shot_folder

TRIES = 200
CHOSEN, WRONG = 15, 3
"""Points of a ground, and how many of them lie off it."""

LENGTHS, LEAST_M = 4, 2.0
"""Measured lengths, each at least so long."""

SURE_M = 0.02
"""One sigma of a point up to which an artist would choose it."""

FLAT_M, OFF_M = 1e-6, 0.05


def run() -> None:
    """Print figures and targets."""
    shots = {name: _solved(name) for name in ("SKL_010", "SKL_040", "SKL_080")}
    print("\ndatum                          scale error, median, 90 %    target    normal, median, 90 %    target")
    for name in ("SKL_010", "SKL_040"):
        for wrong in (0, WRONG):
            _datum(name, *shots[name], wrong)
    _mesh(*shots["SKL_080"])
    _slip(*shots["SKL_010"])
    _wrong_focal()
    _projection(*shots["SKL_010"])
    _speed(*shots["SKL_010"])


def _solved(name: str) -> tuple[Solution, Datum]:
    """Return a shot's solve with nothing known, and what takes it to the simulated world, by the cameras alone."""
    plate = open_plate(shot_folder(name) / "plate")
    solution = solve_tracks(follow_plate(plate), plate.frames, plate.width, plate.height)
    path, own = truth(SHOTS[name]()), solution.path
    rotation = path.world_from_camera[0] @ own.world_from_camera[0].T
    a, b = (own.positions - own.positions.mean(0)) @ rotation.T, path.positions - path.positions.mean(0)
    scale = float((a * b).sum() / (a * a).sum())
    return solution, Datum(scale, rotation, path.positions.mean(0) - scale * rotation @ own.positions.mean(0))


def _true_points(name: str, solution: Solution) -> np.ndarray:
    """Return where each track's spot lies on the set (T, 3), NaN where its frames do not agree."""
    shot, tracks = SHOTS[name](), solution.tracks
    renderer, path = Renderer(shot), truth(shot)
    depths: dict[int, np.ndarray] = {}
    out = np.full((len(tracks), 3), np.nan)
    for t in range(len(tracks)):
        first, last = int(tracks.first[t]), int(tracks.first[t + 1])
        found = []
        for s in (first + (last - first) // 3, (first + last) // 2, first + 2 * (last - first) // 3):
            frame, (x, y) = int(tracks.frames[s]), tracks.xy[s]
            if frame not in depths:
                depths[frame] = renderer.depth(frame)
            row = path.index_of(frame)
            inside = int(min(max(y, 0), depths[frame].shape[0] - 1)), int(min(max(x, 0), depths[frame].shape[1] - 1))
            ray = ray_of(path, row, np.array([x, y]))
            at = path.positions[row] + depths[frame][inside] * ray
            if abs(at[1]) < 0.006:
                at = path.positions[row] - ray * path.positions[row][1] / ray[1]
            found.append(at)
        spots = np.array(found)
        if np.isfinite(spots).all() and np.ptp(spots, axis=0).max() < 0.03 * np.linalg.norm(
            spots[1] - path.positions[0]
        ):
            out[t] = np.median(spots, axis=0)
    return out


def _datum(name: str, solution: Solution, true_datum: Datum, wrong: int) -> None:
    true, xyz = _true_points(name, solution), solution.points.positions(solution.path.positions[0])
    solved = Solved(solution.path, solution.tracks.ids, xyz, solution.point_covariance)
    sigma = true_datum.scale * np.sqrt(np.einsum("naa->n", solution.point_covariance))
    good = np.isfinite(true).all(1) & np.isfinite(xyz).all(1) & solution.tracks.in_state(ACTIVE)
    on = np.nonzero(good & (np.abs(true[:, 1]) < FLAT_M) & (sigma < SURE_M))[0]
    near = np.linalg.norm(true - true[on].mean(0), axis=1) < 6.0
    off = np.nonzero(good & (np.abs(true[:, 1]) > OFF_M) & near)[0]
    scales, normals = [], []
    for seed in range(TRIES):
        rng = np.random.default_rng(seed)
        chosen = rng.choice(on, CHOSEN, replace=False)
        chosen[:wrong] = rng.choice(off, wrong, replace=False)
        lengths = []
        while len(lengths) < LENGTHS:
            a, b = rng.choice(on, 2, replace=False)
            long = float(np.linalg.norm(true[a] - true[b]))
            if long > LEAST_M:
                ends = [int(solution.tracks.ids[k]) for k in (a, b)]
                lengths.append(Distance(metres=round(long, 3), tracks=ends))
        ground = [int(t) for t in solution.tracks.ids[chosen]]
        found = find_datum(solved, Statement(ground=ground, distances=lengths)).datum
        scales.append(abs(found.scale / true_datum.scale - 1.0))
        normals.append(np.degrees(np.arccos(min(float((true_datum.rotation @ found.rotation[1])[1]), 1.0))))
    words = f"{name}, {wrong} of {CHOSEN} off it" if wrong else f"{name}, all on it"
    print(
        f"{words:28s}   {100 * np.median(scales):6.2f} % {100 * np.percentile(scales, 90):8.2f} %         0.5 %   "
        f"{np.median(normals):10.3f}° {np.percentile(normals, 90):8.3f}°          0.1°"
    )


def _mesh(solution: Solution, datum: Datum) -> None:
    true = _true_points("SKL_080", solution)
    xyz = datum.apply(solution.points.positions(solution.path.positions[0]))
    middle = truth(SHOTS["SKL_080"]()).positions[36]
    up = np.array([0.0, 1.0, 0.0]) @ datum.rotation
    height = datum.scale * np.sqrt(np.einsum("a,nab,b->n", up, solution.point_covariance, up))
    sigma = datum.scale * np.sqrt(np.einsum("naa->n", solution.point_covariance))
    ground = np.abs(true[:, 1] - ground_height(true[:, 0], true[:, 2])) < 0.1
    near = np.linalg.norm(xyz - middle, axis=1) < 5.0
    rows = np.nonzero(ground & near & (sigma < 0.03) & solution.tracks.in_state(ACTIVE))[0]
    made = relief(xyz[rows], height[rows])
    rows = rows[~made.sticks_out]
    made = relief(xyz[rows], height[rows], smooth=True)
    rng, corners = np.random.default_rng(0), made.solid.triangles
    area = np.linalg.norm(np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    share = rng.dirichlet(np.ones(3), 20_000)
    spots = np.einsum("nk,nki->ni", share, corners[rng.choice(len(corners), 20_000, p=area / area.sum())])
    spots = spots[np.linalg.norm(spots - middle, axis=1) < 4.3]
    off = spots[:, 1] - ground_height(spots[:, 0], spots[:, 2])
    rms = 100 * np.sqrt((off**2).mean())
    print(f"\nSKL_080 meshed, up to 4 m: {rms:.2f} cm RMS, {len(rows)} points   target 1.5 cm")


def _slip(solution: Solution, datum: Datum) -> None:
    shot = SHOTS["SKL_010"]()
    renderer, true, path = Renderer(shot), truth(shot), datum.camera(solution.path)
    plate = open_plate(shot_folder("SKL_010") / "plate")
    xyz = datum.apply(solution.points.positions(solution.path.positions[0]))
    good = np.isfinite(xyz).all(1) & solution.tracks.in_state(ACTIVE)
    covariance = datum.scale**2 * np.einsum("ab,nbc,dc->nad", datum.rotation, solution.point_covariance, datum.rotation)
    spots, texture = [], []
    for row in (10, 42, 70):
        depth = renderer.depth(true.frames[row])
        for y in np.linspace(60, 500, 12).round() + 0.5:
            for x in np.linspace(80, 880, 14).round() + 0.5:
                try:
                    found = plane_under(path, row, np.array([x, y]), xyz[good], covariance[good])
                except Exception:
                    continue
                at = true.positions[row] + depth[int(y), int(x)] * ray_of(true, row, np.array([x, y]))
                if found.rms_px < 1.5 and _flat(true, row, depth, (x, y), at, found.plane.normal):
                    spots.append(Spot(found.at, found.plane.normal, row))
                    texture.append(at)
    began = time.perf_counter()
    measured = measure_slip(plate, path, spots)
    seconds = time.perf_counter() - began
    errors, by_spot = [], []
    for spot, px in zip(measured.spots, measured.px):
        at = texture[next(k for k, one in enumerate(spots) if one is spot)]
        apart = np.array([true.project(at[None], k)[0] - path.project(spot.xyz[None], k)[0] for k in range(len(px))])
        wrong = (px - (apart - apart[spot.row]))[np.isfinite(px[:, 0])]
        errors.append(wrong)
        by_spot.append(float(np.sqrt((wrong**2).mean())))
    every = np.concatenate(errors)
    print(
        f"measured slip, SKL_010, {len(by_spot)} places on flat surfaces: off the true one by"
        f" {np.median(by_spot):.3f} px a coordinate (middle place), {np.sqrt((every**2).mean()):.3f} px (all),"
        f" {seconds:.1f} s;"
        " target 0.05 px"
    )


def _wrong_focal() -> None:
    """A focal length that is held 2 % off, and none: what measured places say of it."""
    for name in ("SKL_010", "SKL_020", "SKL_050", "SKL_080"):
        folder = shot_folder(name)
        plate = open_plate(folder / "plate")
        masked = matte_reader(folder / "mattes", plate)
        tracks, own = follow_plate(plate, masked=masked), truth(SHOTS[name]()).lens.focal_px[0]
        said = []
        for gain in (1.0, 1.02, 0.98):
            recipe = Recipe(focal_px=gain * own) if gain != 1.0 else Recipe()
            solution = solve_tracks(tracks, plate.frames, plate.width, plate.height, recipe)
            path = solution.path
            xyz = solution.points.positions(path.positions[0])
            good = np.isfinite(xyz).all(1) & solution.tracks.in_state(ACTIVE)
            sight = Sight(path, 0, {}, solution.tracks.ids[good], xyz[good])
            measured = measure_slip(plate, path, places(sight, solution.point_covariance[good]), masked=masked)
            measured = measured.taken(measured.sharp)
            found = focal_by_slip(path, settled(path, measured, np.ones(len(measured.spots), bool)))
            said.append("nothing" if found is None else f"{100 * found.share:+.2f} % ({found.sigmas:+.1f} sigmas)")
        print(
            f"focal length by slip, {name}: solved {said[0]}, held 2 % long {said[1]}, 2 % short {said[2]}; "
            "target: found"
        )


def _flat(true: CameraPath, row: int, depth: np.ndarray, xy, at: np.ndarray, normal: np.ndarray) -> bool:
    """Whether the set about a spot is one plane of a normal."""
    away, reach = np.linalg.norm(at - true.positions[row]), np.arange(-24, 25, 8)
    for dy in reach:
        for dx in reach:
            y, x = int(np.clip(xy[1] + dy, 0, 539)), int(np.clip(xy[0] + dx, 0, 959))
            ray = ray_of(true, row, np.array([x + 0.5, y + 0.5]))
            if abs((true.positions[row] + depth[y, x] * ray - at) @ normal) > 0.005 * away:
                return False
    return True


def _stage() -> list:
    """SKL_010's slab, beach, harbour wall and stone wall as proxies."""
    rows = (
        ("plane", (6.4, 1, 26), (-1.0, 0, -5)), ("plane", (30, 1, 34), (-8, -0.1, -8)),
        ("box", (0.7, 1.0, 14), (-4.9, -0.08, -9)), ("wall", (28, 1.9, 1), (0, -0.2, -19)),
    )  # fmt: skip
    made = ({"kind": kind, "size": size, "position": at} for kind, size, at in rows)
    return [solid_of(Proxy.model_validate(one)) for one in made]


def _projection(solution: Solution, datum: Datum) -> None:
    shot, folder, stage = SHOTS["SKL_010"](), shot_folder("SKL_010"), _stage()
    plate, path = open_plate(folder / "plate"), datum.camera(solution.path)
    masked = matte_reader(folder / "mattes", plate)
    empty = replace(shot, scene=replace(shot.scene, actors=()))
    clean, depth = Renderer(empty).picture(int(shot.frames[0]))[0].astype(float), Renderer(empty).depth(shot.frames[0])
    hidden = Renderer(shot).picture(int(shot.frames[0]))[1] > 8
    points, at = points_seen(path, 0, stage, surface_seen(path, 0, stage))
    seen = 1.0 / surface_seen(path, 0, stage).inverse[at[:, 0], at[:, 1]]
    own = hidden[at[:, 0], at[:, 1]] & (np.abs(depth[at[:, 0], at[:, 1]] / seen - 1.0) < 0.01)

    def bare(row: int) -> np.ndarray:
        return plate.read(int(path.frames[row])).astype(np.float32)

    def without_hands(row: int) -> np.ndarray:
        picture = bare(row)
        picture[masked(int(path.frames[row]))] = np.nan
        return picture

    for look, words in ((bare, "nothing masked"), (without_hands, "the hands masked")):
        began = time.perf_counter()
        found = coloured(path, points, np.arange(len(path.frames)), stage, look, MEDIAN, 0)
        apart = np.abs(found - clean[at[:, 0], at[:, 1]]).max(1)
        share = float((apart[own] <= 6.0).mean())
        print(
            f"median projection of SKL_010, what the hands hide in its first frame, {words}: "
            f"{100 * share:.1f} % within 6 code values, {time.perf_counter() - began:.1f} s   target 95 %"
        )


def _speed(solution: Solution, datum: Datum) -> None:
    path = datum.camera(solution.path)
    xyz = datum.apply(solution.points.positions(solution.path.positions[0]))
    good = np.isfinite(xyz).all(1) & solution.tracks.in_state(ACTIVE)
    rng = np.random.default_rng(0)
    triangles = rng.uniform(-5, 5, (20_000, 3, 3))
    stage, focal = _stage(), 2.0 * path.lens.focal_px[0]
    large = replace(path, lens=Lens.centred(1920, 1080, focal, path.lens.radial[0]))
    picture = rng.uniform(0, 255, (1080, 1920, 3)).astype(np.float32)

    def seen_large() -> None:
        surface = surface_seen(large, 40, stage)
        points, _ = points_seen(large, 40, stage, surface)
        looked_up(large, View(0, picture, surface_seen(large, 0, stage).inverse), points)

    for words, work, target in (
        ("plane under the pointer", lambda: plane_under(path, 30, np.array([480.0, 430.0]), xyz[good]), "30 ms, drawn"),
        ("ray on 20,000 triangles", lambda: cast(np.zeros(3), np.array([[0.1, 0.2, -1.0]]), triangles), "2 ms"),
        ("a 1920x1080 frame projected onto four proxies", seen_large, "100 ms on the page, which draws textures"),
    ):
        work()
        times = []
        for _ in range(7):
            began = time.perf_counter()
            work()
            times.append(time.perf_counter() - began)
        print(f"{words}: {1000 * np.median(times):.1f} ms   target {target}")
