"""The command line as scripts use it, and the layers of the code."""

import csv
import json
import subprocess
import sys
from pathlib import Path
from types import SimpleNamespace

import numpy as np
import pytest
from click.testing import CliRunner
from jsonschema import validate

from amberkeel.cli import main
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.pictures.read import read_picture, read_raw, to_gray
from amberkeel.core.pictures.write import write_picture, write_png

ROOT = Path(__file__).parents[1]


def keel(*words):
    """Run a command in this process; return its exit code and what it said, as of a process of its own."""
    run = CliRunner().invoke(main, [str(word) for word in words])
    if run.exception and not isinstance(run.exception, SystemExit):
        raise run.exception
    return SimpleNamespace(returncode=run.exit_code, stdout=run.stdout, stderr=run.stderr)


def keel_alone(*words):
    """Run a command in a process of its own, as scripts do."""
    command = [sys.executable, "-m", "amberkeel.cli", *map(str, words)]
    return subprocess.run(command, capture_output=True, text=True, cwd=ROOT, timeout=300)


def test_solve_writes_its_files_and_says_how_good_it_is(plate_folder, tmp_path):
    out = tmp_path / "out"
    run = keel_alone(
        "solve",
        plate_folder / "plate" / "skl.####.png",
        "--out",
        out,
        "--frames",
        "1003-1036",
        "--fps",
        "23.976",
        "--sensor-width",
        24,
        "--mattes",
        plate_folder / "mattes",
        "--seed",
        5,
    )
    assert run.returncode == 0, run.stderr
    assert "Solved 34 frames" in run.stdout
    assert {p.name for p in out.iterdir()} == {"solve.json", "camera.usda", "points.csv", "tracks.csv"}
    document = json.loads((out / "solve.json").read_text())
    validate(document, json.loads((ROOT / "docs" / "solve.schema.json").read_text()))
    assert document["plate"]["fps"] == "24000/1001"
    assert [f["frame"] for f in document["frames"]] == list(range(1003, 1037))
    found = keel("diagnose", out / "solve.json")
    assert found.returncode == 0, found.stderr
    listed = json.loads(found.stdout)
    assert all({"kind", "severity", "text", "remedies"} < set(one) for one in listed)
    for words, expected in (
        ((out / "camera.usda",), "cannot be read"),
        ((out / "nothing.json",), "cannot be read"),
        ((out / "solve.json", "--tracks", out / "points.csv"), "no column"),
    ):
        run = keel("diagnose", *words)
        assert run.returncode == 1 and expected in run.stderr and "Traceback" not in run.stderr


def test_a_plate_is_improved_and_the_report_says_how(plate_folder, tmp_path):
    run = keel(
        "improve", plate_folder / "plate", "--out", tmp_path, "--effort", "quick", "--frames", "1001-1030",
        "--mattes", plate_folder / "mattes",
    )  # fmt: skip
    assert run.returncode == 0, run.stderr
    assert {"solve.json", "tracks.csv", "improve.json", "report.html"} < {p.name for p in tmp_path.iterdir()}
    log = json.loads((tmp_path / "improve.json").read_text())
    assert 1 <= len(log["tried"]) <= 3 and all(one["words"] for one in log["tried"])
    assert log["after"]["check_rms_px"] < 1.1 * log["before"]["check_rms_px"]
    report = (tmp_path / "report.html").read_text()
    assert report.count("<svg") >= 6 and "<script" not in report and log["tried"][0]["remedy"] in report
    assert keel("improve", plate_folder / "plate", "--out", tmp_path, "--effort", "heroic").returncode == 2


def test_failures_are_one_line_and_an_exit_code(tmp_path):
    for k in range(6):
        write_png(tmp_path / f"still.{k:04d}.png", np.full((90, 160, 3), 90, np.uint8))
    for words, expected in [
        ((tmp_path, "--out", tmp_path / "o"), "hardly any texture"),
        ((tmp_path / "nothing", "--out", tmp_path / "o"), "No files match"),
        ((tmp_path, "--out", tmp_path / "o", "--fps", "zero"), "no frame rate"),
    ]:
        run = keel("solve", *words)
        assert run.returncode == 1 and expected in run.stderr
        assert len(run.stderr.strip().splitlines()[-1]) > 20 and "Traceback" not in run.stderr
    assert keel("solve", tmp_path, "--out", tmp_path / "o", "--focal", 27).returncode == 2
    assert not (tmp_path / "o").exists()


def test_mattes_of_what_moves_are_written_for_every_frame(plate_folder, tmp_path):
    run = keel("mask", "propose", plate_folder / "plate", "--out", tmp_path / "mattes", "--frames", "1001-1032")
    assert run.returncode == 0, run.stderr
    assert "32 mattes written" in run.stdout and "regions (" in run.stdout
    names = sorted(p.name for p in (tmp_path / "mattes").iterdir())
    assert names == [f"skl_matte.{f}.png" for f in range(1001, 1033)]
    found, true = (
        to_gray(read_picture(p)) > 127
        for p in (tmp_path / "mattes" / names[14], plate_folder / "mattes" / "matte.1015.png")
    )
    assert (found & true).sum() > 0.6 * true.sum() and (found & ~true).mean() < 0.08
    run = keel_alone("mask", "propose", plate_folder / "nothing", "--out", tmp_path / "x")
    assert run.returncode == 1 and len(run.stderr.strip().splitlines()) == 1 and "No files match" in run.stderr


def test_a_world_is_set_meshed_and_projected_from_files(plate_folder, tmp_path, solution):
    from amberkeel.core.handoff.document import solve_document

    solve = tmp_path / "solve.json"
    document = solve_document(solution, plate="skl")
    solve.write_text(json.dumps(document))
    active = [p for p in document["points"] if p["state"] == "active"]
    usual = np.median([np.linalg.norm(p["xyz"]) for p in active])
    near = [p for p in active if np.linalg.norm(p["xyz"]) < 1.5 * usual]
    low = sorted(near, key=lambda p: p["xyz"][1])[:30]
    names = [p["track"] for p in low]
    first = tmp_path / "world.json"
    length = f"{names[2]},{names[-1]},2.45m"
    run = keel(
        "world", solve, "--ground", ",".join(names), "--origin", names[0], "--heading", f"{names[0]},{names[9]},x",
        "--distance", length, "--out", first,
    )  # fmt: skip
    assert run.returncode == 0 and "found 2.45 m (+0.00 %)" in run.stdout, run.stderr
    validate(json.loads(first.read_text()), json.loads((ROOT / "docs" / "world.schema.json").read_text()))
    meshed, ply = tmp_path / "meshed.json", tmp_path / "m.ply"
    run = keel("mesh", solve, "--world", first, "--tracks", ",".join(names), "--smooth", "--out", meshed, "--ply", ply)
    assert run.returncode == 0 and "triangles" in run.stdout and ply.read_bytes().startswith(b"ply"), run.stderr
    out = tmp_path / "textures"
    asked = ["project", plate_folder / "plate", "--solve", solve, "--world", meshed, "--frames", "1001-1012", "--out"]
    run = keel(*asked, out, "--mattes", plate_folder / "mattes")
    assert run.returncode == 0 and (out / "p1.png").is_file(), run.stderr
    run = keel(*asked, tmp_path / "seen", "--painted", out, "--sequence")
    assert run.returncode == 0 and len(list((tmp_path / "seen").iterdir())) == 40, run.stderr
    over = np.zeros((360, 640, 4), np.uint8)
    over[250:340, 150:500] = [220, 30, 40, 255]
    write_picture(tmp_path / "over.png", over)
    laid = [*asked, tmp_path / "laid", "--painted", tmp_path / "over.png", "--over", "1004", "--sequence"]
    run = keel(*laid, "--behind", "--mattes", plate_folder / "mattes")
    assert run.returncode == 0 and (tmp_path / "laid" / "p1.png").is_file(), run.stderr
    seen = read_raw(tmp_path / "laid" / "skl_projected.1004.png")
    hidden = to_gray(read_picture(plate_folder / "mattes" / "matte.1004.png")) > 127
    whole = seen[..., 3] > 250
    assert whole.sum() > 300 and not seen[hidden, 3].any() and np.abs(seen[whole, 0].astype(int) - 220).max() < 6
    assert "no camera" in keel(*laid[:-3], "--over", "9").stderr and "--mattes" in keel(*laid, "--behind").stderr
    run = keel("mesh", solve, "--world", first, "--tracks", ",".join(names), "--seen-from", "1004", "--out", meshed)
    assert run.returncode == 0 and json.loads(meshed.read_text())["proxies"]["p1"]["along"], run.stderr
    from amberkeel.core.world.world_file import world_schema

    assert (ROOT / "docs" / "world.schema.json").read_text() == world_schema()
    for words, said in (
        (["world", solve, "--ground", "nobody,none,nix", "--out", first], "no point in this attempt"),
        (["world", solve, "--distance", "a,b", "--out", first], "no distance"),
        (["world", tmp_path / "none.json", "--out", first], "cannot be read"),
        (["mesh", solve, "--world", solve, "--tracks", "all", "--out", meshed], "no world.json"),
        (["mesh", solve, "--world", first, "--tracks", "nobody", "--out", meshed], "no track nobody"),
        (["project", plate_folder / "plate", "--solve", solve, "--world", first, "--out", out], "no proxies"),
    ):
        assert said in keel(*words).stderr


def test_a_solve_is_brought_into_another_one_by_ties(solution, tmp_path):
    from amberkeel.core.handoff.document import read_path, solve_document
    from amberkeel.core.handoff.track_table import tracks_csv
    from amberkeel.core.ties.from_files import moved_document
    from amberkeel.core.world.datum import Datum

    turn = rotation_exp(np.array([0.5, -1.2, 0.3]))
    away = Datum(0.4, turn, np.array([3.0, -1.0, 7.0]))
    fixed = solve_document(solution, plate="a")
    own = moved_document(fixed, away)
    (tmp_path / "a.json").write_text(json.dumps(fixed))
    (tmp_path / "b.json").write_text(json.dumps(own))
    reach = np.median([np.linalg.norm(p["xyz"]) for p in fixed["points"]])
    sure = [p for p in fixed["points"] if p["state"] == "active" and (p["sigma_along"] or reach) < 0.02 * reach]
    # Of those whose measurements agree, so that two cameras locate each.
    rms = dict(zip(solution.tracks.names, solution.track_rms))
    sure = sorted(sure, key=lambda p: rms[p["track"]])[: len(sure) // 2]
    names = [p["track"] for p in sure[:: max(len(sure) // 8, 1)][:8]]

    def table(rows):
        with open(tmp_path / "ties.csv", "w", newline="") as file:
            csv.writer(file).writerows([("fixed", "own"), *rows])
        return [
            "align",
            tmp_path / "a.json",
            tmp_path / "b.json",
            "--ties",
            tmp_path / "ties.csv",
            "--out",
            tmp_path / "o",
        ]

    run = keel(*table([(n, n) for n in names]))
    assert run.returncode == 0 and "8 ties, 8 of them used" in run.stdout, run.stderr
    brought = json.loads((tmp_path / "o" / "solve.json").read_text())
    there, here = read_path(brought), read_path(fixed)
    assert np.allclose(there.positions, here.positions, atol=1e-6 * reach)
    assert np.allclose(there.world_from_camera, here.world_from_camera, atol=1e-7)
    assert brought["points"][3]["sigma_along"] == pytest.approx(fixed["points"][3]["sigma_along"], rel=1e-6)
    # One joined with the wrong spot.
    other = next(p["track"] for p in sure if p["track"] not in names)
    run = keel(*table([*((n, n) for n in names[1:]), (names[0], other)]))
    told = json.loads((tmp_path / "o" / "align.json").read_text())
    assert [one["wrong"] for one in told["ties"]] == [False] * 7 + [True] and "contradict it" in run.stdout
    assert told["ties"][0]["off_px"] < 0.01 and told["similarity"]["scale"] == pytest.approx(2.5, rel=1e-5)
    # By tables of tags: spots that are located by both cameras.
    tags = solution.tracks.take(np.array([solution.tracks.names.index(n) for n in names]))
    for name in ("a", "b"):
        (tmp_path / f"{name}.csv").write_text(tracks_csv(tags))
    command = ["align", tmp_path / "a.json", tmp_path / "b.json", "--tags", tmp_path / "a.csv", tmp_path / "b.csv"]
    run = keel(*command, "--out", tmp_path / "t")
    assert run.returncode == 0 and "8 ties" in run.stdout, run.stderr
    again = read_path(json.loads((tmp_path / "t" / "solve.json").read_text()))
    assert np.allclose(again.positions, here.positions, atol=1e-5 * reach)
    assert "without a point" in keel(*table([("nobody", names[0])] * 3)).stderr
    assert "either --tags" in keel(*command[:3], "--out", tmp_path / "t").stderr
    assert "2 ties" in keel(*table([(n, n) for n in names[:2]])).stderr
