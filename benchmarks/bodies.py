"""Bodies against the simulator's truth: a crate of 1 m carried past a camera that stands, and past one that walks."""

import json
from pathlib import Path

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.handoff.document import read_path
from amberkeel.core.handoff.track_table import Extent, read_tracks_csv
from amberkeel.core.pictures.write import write_png
from amberkeel.core.progress import silent
from amberkeel.core.sim.quay import CLEAN_FOCAL_MM, CRATE_M, SENSOR_WIDTH_MM, Carried, carried
from amberkeel.core.sim.render import render_all, surface_points
from amberkeel.core.solve_plate import SolveOrder, solve_plate
from amberkeel.core.world.align import similarity
from amberkeel.core.world.datum import Datum
from amberkeel.core.world.true_slip import slip_px
from benchmarks.shots import FOLDER

SAMPLES = 16
"""Of a pixel: the crate runs some pixels while the shutter is open."""

LENGTH_SIGMA = 0.003
"""One sigma of the length that is told, metres."""


def run() -> None:
    """Print the body's errors, and what masking it does to the camera's own solve."""
    for name, walks in (("walks", True), ("stands", False)):
        shot = carried(walks, samples=SAMPLES)
        folder = _rendered(f"carried_{name}", shot)
        camera = _camera(folder, shot, walks)
        first = _body(folder, camera, None)
        order = f"length={','.join(_ends(first, shot, camera, walks))}"
        files = _body(folder, camera, order)
        turn, place = _errors(files, shot, camera, walks)
        print(
            f"body, camera {name}: rotation {turn[0]:.2f}° RMS, {turn[1]:.2f}° at the most (target 0.3), place "
            f"{place[0]:.2f} % of its distance RMS, {place[1]:.2f} % at the most (target 0.5), size by a length on it"
        )
    with_body = _slip(carried(True, samples=SAMPLES), FOLDER / "carried_walks", True)
    without = carried(True, empty=True, samples=SAMPLES)
    bare = _slip(without, _rendered("carried_nothing", without), False)
    print(f"camera's own slip with the body masked {with_body:.4f} px, without the body {bare:.4f} px")


def _rendered(name: str, shot: Carried) -> Path:
    folder = FOLDER / name
    if not (folder / "done").exists():
        print(f"Rendering {name} (once)", flush=True)
        for part in ("plate", "mattes"):
            (folder / part).mkdir(parents=True, exist_ok=True)
        for frame, picture, matte in render_all(shot.shot):
            write_png(folder / "plate" / f"quay.{frame:04d}.png", picture)
            write_png(folder / "mattes" / f"matte.{frame:04d}.png", matte)
        (folder / "done").touch()
    return folder


def _camera(folder: Path, shot: Carried, walks: bool) -> dict:
    """Return the background's solve, written beside the plate; a camera that stands is told its focal length."""
    known = {} if walks else {"focal_mm": CLEAN_FOCAL_MM, "sensor_width_mm": SENSOR_WIDTH_MM}
    order = SolveOrder(str(folder / "plate"), mattes=str(folder / "mattes"), **known)
    text = solve_plate(order, silent)["solve.json"]
    (folder / "solve.json").write_text(text)
    return json.loads(text)


def _body(folder: Path, camera: dict, size: str | None) -> dict[str, str]:
    order = SolveOrder(
        str(folder / "plate"), inside=str(folder / "mattes"), camera=str(folder / "solve.json"), size=size
    )
    return solve_plate(order, silent)


def _to_truth(camera: dict, shot: Carried, walks: bool) -> Datum:
    """Return what takes the solved camera's world to the true one."""
    path, true = read_path(camera), shot.path
    if walks:
        return similarity(path.positions, true.positions)
    turn = true.world_from_camera[0] @ path.world_from_camera[0].T
    return Datum(1.0, turn, true.positions[0] - turn @ path.positions[0])


def _ends(files: dict[str, str], shot: Carried, camera: dict, walks: bool) -> tuple[str, str, str]:
    """Return two tracks on the crate that are far apart, and how far in the camera's world, with a tape's error: where
    the tracks' rays on the frame that sees most meet the true crate.
    """
    path = shot.path
    tracks = read_tracks_csv(files["tracks.csv"], Extent(path.frames, path.lens.width, path.lens.height))
    names = {p["track"] for p in json.loads(files["body.json"])["points"] if p["state"] == "active"}
    counts = np.bincount(tracks.frames - path.frames[0], minlength=len(path.frames))
    row = int(counts.argmax())
    found = {}
    for t, name in enumerate(tracks.names):
        own = tracks.rows(t)
        at = np.nonzero(tracks.frames[own] == path.frames[row])[0]
        if name in names and len(at):
            hit = _on_crate(shot, row, tracks.xy[own][at[0]])
            if hit is not None:
                found[name] = hit
    keys, xyz = list(found), np.array(list(found.values()))
    away = np.linalg.norm(xyz[:, None] - xyz[None], axis=2)
    a, b = np.unravel_index(away.argmax(), away.shape)
    length = away[a, b] + np.random.default_rng(1).normal(0.0, LENGTH_SIGMA)
    return keys[a], keys[b], f"{length / _to_truth(camera, shot, walks).scale:.6f}"


def _on_crate(shot: Carried, row: int, px: np.ndarray) -> np.ndarray | None:
    """Return where a pixel's ray meets the crate, in its own frame (3,); None where it passes by."""
    path, turn = shot.path, shot.world_from_body[row]
    way = np.append(path.normalise(px[None], row)[0], 1.0) @ path.world_from_camera[row].T @ turn
    start = (path.positions[row] - shot.positions[row]) @ turn
    with np.errstate(divide="ignore"):
        ends = np.sort((np.array([[-1.0], [1.0]]) * CRATE_M / 2.0 - start) / way, axis=0)
    enters, leaves = ends[0].max(), ends[1].min()
    return start + enters * way if enters < leaves else None


def _errors(files: dict[str, str], shot: Carried, camera: dict, walks: bool):
    """Return RMS and largest error of the body's turn, degrees, and of its place, % of its distance."""
    body, change = json.loads(files["body.json"]), _to_truth(camera, shot, walks)
    rows = shot.path.rows_of(np.array([f["frame"] for f in body["frames"]]))
    place = change.apply(np.array([f["position"] for f in body["frames"]]))
    turn = change.rotation @ np.array([f["world_from_body"] for f in body["frames"]])
    true_turn, true_place = shot.world_from_body[rows], shot.positions[rows]
    # The body's frame is its own: one turn and one shift of it are free.
    between = Rotation.from_matrix(np.swapaxes(true_turn, 1, 2) @ turn)
    degrees = np.degrees((between.mean().inv() * between).magnitude())
    inside = np.einsum("fji,fj->fi", true_turn, place - true_place).mean(0)
    away = np.linalg.norm(true_place - shot.path.positions[rows], axis=1)
    off = 100.0 * np.linalg.norm(place - true_place - true_turn @ inside, axis=1) / away
    return (float(np.sqrt((degrees**2).mean())), float(degrees.max())), (float(np.sqrt((off**2).mean())), off.max())


def _slip(shot: Carried, folder: Path, masked: bool) -> float:
    mattes = str(folder / "mattes") if masked else None
    camera = json.loads(solve_plate(SolveOrder(str(folder / "plate"), mattes=mattes), silent)["solve.json"])
    xyz, seen = surface_points(carried(True, empty=True, samples=1).shot, 600)
    return float(np.nanmedian(slip_px(read_path(camera), shot.path, xyz, seen)))
