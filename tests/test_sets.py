"""Sets: points that shots are tied to, a plate tied in one go, and shots of one set adjusted together."""

import json
from dataclasses import replace

import numpy as np
import pytest
from click.testing import CliRunner
from simulated import moving_camera, observe

from amberkeel.cli.set import set as set_command
from amberkeel.cli.tie import tie
from amberkeel.cli.together import together
from amberkeel.core.errors import KeelError, TieError
from amberkeel.core.handoff.track_table import tracks_csv
from amberkeel.core.pictures.write import write_png
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.progress import silent
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.solve_plate import SolveOrder
from amberkeel.core.ties.pictures import found_in
from amberkeel.core.ties.refine import Anchored, refined, ties_of
from amberkeel.core.ties.set_file import Set, points_csv, read_set, set_text, surveyed
from amberkeel.core.ties.side import side_of
from amberkeel.core.ties.tie_plate import TieOrder, tie_plate
from amberkeel.core.ties.together import JointShot, SameSpot, adjusted_together
from amberkeel.core.world.align import similarity

FRAMES = 24


@pytest.fixture
def tagged(rng, tmp_path):
    """Return a camera, points, tracks of which eight are tags, those' names, and files: plate, tracks, survey (mm)."""
    camera = moving_camera(FRAMES, step=0.12)
    points = rng.uniform([-3.5, -2.0, 5], [4.5, 2.0, 12], (120, 3))
    tracks = observe(camera, points, 0.08, rng)
    names = [f"36h11-{int(n[1:]):04d}" if int(n[1:]) < 8 else n for n in tracks.names]
    tracks = replace(tracks, names=names, kinds=["tag" if "-" in n else "auto" for n in names])
    folder = tmp_path / "plate"
    folder.mkdir()
    for frame in camera.frames:
        write_png(folder / f"p.{frame}.png", np.zeros((360, 640), np.uint8))
    (tmp_path / "tracks.csv").write_text(tracks_csv(tracks))
    tags = [n for n in names if "-" in n]
    rows = ["name;x;y;z;sigma"]
    rows += [f"{n};{';'.join(f'{1000 * v:.2f}' for v in points[int(n[6:])])};1,5" for n in tags]
    (tmp_path / "survey.csv").write_text("\n".join(rows))
    return camera, points, tracks, tags, tmp_path


def test_a_plate_is_tied_to_a_survey_and_a_wrong_point_is_named(tagged):
    camera, points, tracks, tags, folder = tagged
    text = (folder / "survey.csv").read_text().splitlines()
    wrong = text[3].split(";")
    text[3] = ";".join([wrong[0], str(float(wrong[1]) + 100.0), *wrong[2:]])
    (folder / "survey.csv").write_text("\n".join(text))
    run = CliRunner()
    made = run.invoke(
        set_command,
        ["--name", "Quay", "--survey", str(folder / "survey.csv"), "--unit", "mm", "--out", str(folder / "set.json")],
    )
    assert made.exit_code == 0 and f"{len(tags)} points in metres" in made.output, made.output
    solve = SolveOrder(str(folder / "plate"), tracks=str(folder / "tracks.csv"))
    order = TieOrder(solve, folder / "set.json")
    files = tie_plate(order, silent)
    report, solved = json.loads(files["tie.json"]), json.loads(files["solve.json"])
    assert [one["name"] for one in report["ties"] if one["wrong"]] == [wrong[0]]
    assert wrong[0] in " ".join(report["notes"])
    assert report["set"] == "Quay" and report["unit"] == "m" and report["by"] == "tags" and report["rms"] < 0.004
    off = np.linalg.norm(np.array([f["position"] for f in solved["frames"]]) - camera.positions, axis=1)
    assert off.max() < 0.02
    assert report["check_rms_px"]["after"] < 1.2 * report["check_rms_px"]["before"] + 0.02
    exact = tie_plate(replace(order, exact=True), silent)
    assert json.loads(exact["tie.json"])["rms"] < report["rms"]
    for name, made in (("A", files), ("B", exact)):
        (folder / name).mkdir()
        for part in ("solve.json", "tracks.csv"):
            (folder / name / part).write_text(made[part])
    run = CliRunner().invoke(together, [str(folder / "A"), str(folder / "B"), "--out", str(folder / "both")])
    assert run.exit_code == 0 and "B: residual" in run.output, run.output
    both = [json.loads((folder / "both" / name / "solve.json").read_text())["frames"] for name in "AB"]
    apart = np.array([f["position"] for f in both[0]]) - np.array([f["position"] for f in both[1]])
    assert np.abs(apart).max() < 1e-3
    (folder / "few.csv").write_text("\n".join([text[0], *text[1:3], "nowhere;1;2;3;1"]))
    run = CliRunner()
    run.invoke(set_command, ["--name", "Few", "--survey", str(folder / "few.csv"), "--out", str(folder / "few.json")])
    said = run.invoke(tie, [str(folder / "plate"), "--set", str(folder / "few.json"), "--out", str(folder / "no")])
    assert said.exit_code == 1 and "Traceback" not in said.output


def test_ties_are_anchored_points_and_what_they_hold_on_to_stays(tagged):
    camera, points, tracks, tags, folder = tagged
    solution = solve_tracks(tracks, camera.frames, 640, 360)
    row = {n: int(i) for n, i in zip(tracks.names, tracks.ids)}
    known = [Anchored(row[n], n, points[int(n[6:])].copy(), np.full(3, 0.001)) for n in tags]
    before = [one.xyz.copy() for one in known]
    done = refined(solution, known)
    assert all((one.xyz == was).all() for one, was in zip(known, before))
    there = done.alignment.change.camera(done.solution.path).positions
    assert np.abs(there - camera.positions).max() < 0.01 and not done.alignment.wrong.any() and done.pulls == ()
    height = [replace(one, xyz=np.array([np.nan, one.xyz[1], np.nan])) if k > 3 else one for k, one in enumerate(known)]
    assert np.abs(refined(solution, height).alignment.off).max() < 0.01
    states = ["excluded" if n == tags[0] else s for n, s in zip(tracks.names, tracks.states)]
    gone = replace(solution.tracks, states=states)
    with pytest.raises(TieError, match=f"without a point: {tags[0]}"):
        ties_of(replace(solution, tracks=gone), known)
    with pytest.raises(TieError, match="2 ties cannot align"):
        refined(solution, known[:2])
    middle = points[int(tags[0][6:])]
    near = np.argsort(np.linalg.norm(points - middle, axis=1))
    close = [k for k in near.tolist() if f"p{k:03d}" in row][:5]
    patch = [Anchored(row[f"p{k:03d}"], f"p{k:03d}", points[k], np.full(3, 0.001)) for k in close]
    assert "one small part" not in " ".join(done.alignment.notes)
    assert "one small part" in " ".join(refined(solution, patch).alignment.notes)
    blank = side_of(open_plate(str(folder / "plate")), solution)
    with pytest.raises(TieError, match="nothing in common"):
        found_in(blank, blank)


def test_sets_are_read_and_refused_in_words():
    points = surveyed("name,x,y,z,sx,sy,sz\nBollard,1,2,3,.001,.001,.01\n\nPost,4,5.5,6,,,\n", "m")
    one = Set(name="Quay", points=points)
    again = read_set(set_text(one))
    assert again == one and again.frozen and again.point("Post").sigma == (0.002,) * 3 and again.point("Mast") is None
    assert surveyed(points_csv(one), "m")[0].xyz == points[0].xyz
    for text, unit, said in (
        ("name,x,y,z\nA,1,2,3\nA,4,5,6", "m", "Two points are named A"),
        ("name,x,y\nA,1,2", "m", "no survey table"),
        ("name,x,y,z\nA,1,two,3", "m", "Line 2.*two"),
        ("name,x,y,z\nA,1,2,3", "fathom", "no unit"),
        ("name,x,y,z\n", "m", "no points"),
    ):
        with pytest.raises(KeelError, match=said):
            surveyed(text, unit)
    for text, said in (("{", "no set.json"), ('{"name": 3}', "no set: name"), ('{"name": "Q", "keel": 1}', "keel")):
        with pytest.raises(TieError, match=said):
            read_set(text)


def test_shots_of_a_set_are_adjusted_in_one_world(rng):
    points = rng.uniform([-3.5, -2.0, 5], [4.5, 2.0, 12], (140, 3))
    shots, seen = [], {}
    for k in range(3):
        camera = moving_camera(20, focal=650.0 + 40 * k, step=0.1)
        camera = replace(camera, positions=camera.positions + [0.4 * k, 0.1 * k, 0.0])
        tracks = observe(camera, points, 0.1, rng)
        own = solve_tracks(tracks, camera.frames, 640, 360)
        rough = similarity(own.path.positions, camera.positions + rng.normal(0, 0.01, (20, 3)))
        shots.append((JointShot(f"s{k}", own, rough), camera))
        for track, name in zip(tracks.ids.tolist(), tracks.names):
            seen.setdefault(name, []).append((k, track))
    spots = [SameSpot(tuple(two)) for two in list(seen.values())[:40] if len(two) > 1]
    done = adjusted_together([shot for shot, _ in shots], spots)
    there = [one.change.apply(one.solution.path.positions) for one in done]
    whole = similarity(np.concatenate(there), np.concatenate([camera.positions for _, camera in shots]))
    off = [np.abs(whole.apply(at) - camera.positions).max() for at, (_, camera) in zip(there, shots)]
    assert max(off) < 0.01, off
    with pytest.raises(TieError, match="joins s2"):
        adjusted_together([shot for shot, _ in shots], [SameSpot(((0, 1), (1, 1)))])
    with pytest.raises(TieError, match="with nobody"):
        adjusted_together([shots[0][0]], spots)
