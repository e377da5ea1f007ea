"""The handoff stage as a person uses it, and as a pipeline asks: recipients, packages made and opened, the JSON API."""

import json
import os
import runpy
import shutil
import subprocess
import sys
import zipfile
from pathlib import Path

import av
import cv2
import pytest
import trimesh
from click.testing import CliRunner
from desk import desk_page, poster
from playwright.sync_api import expect
from pxr import Usd, UsdGeom

from amberkeel.cli.export import export
from amberkeel.core.handoff.track_table import tracks_csv
from amberkeel.settings import from_environment
from amberkeel.store.edits import apply
from amberkeel.store.held import hold_shot
from amberkeel.store.models import Attempt, Package, Shot
from amberkeel.store.session import session
from amberkeel.store.storage import storage

ROOT = Path(__file__).parents[1]
TOKEN = "a-token-of-the-pipeline"


def test_a_recipient_is_made_and_a_package_for_it(browser, service, client, database, solved_shot, tmp_path):
    number = solved_shot
    post = poster(client, number)
    with desk_page(browser, service, number, "handoff") as page:
        expect(page.locator("#packlist")).to_contain_text("None was made yet")
        page.locator("#packfor").select_option("layout")
        page.locator('[data-act="pack-edit"]').click()
        page.locator("#rname").fill("Layout, metres")
        page.locator("#runit").select_option("m")
        page.locator("#rscale").fill("0")
        page.locator('[data-act="pack-save"]').click()
        expect(page.locator("#toast")).to_contain_text("greater than 0")
        page.locator("#rscale").fill("1")
        page.locator('#rformats input[value="glb"]').check()
        page.locator("#rplates").select_option("straightened")
        page.locator("#rlocator").fill("0,1")
        page.locator("#rmovieplate").check()
        page.locator("#rmovieprobes").check()
        page.locator('[data-act="pack-save"]').click()
        expect(page.locator("#packfor")).to_have_value("Layout, metres")
        expect(page.locator("#packwords")).to_contain_text("usda, glb in m, Y up")
        expect(page.locator("#packwords")).to_contain_text("two movies, points as locators of 0.1 m")
        page.locator('[data-act="pack-make"]').click()
        page.locator("#cancel").click()
        expect(page.locator("#toast")).to_contain_text("Cancelled; nothing was changed", timeout=60_000)
        assert not list(from_environment().media.glob(f"packages/{number}/*"))
        expect(page.locator("#packlist")).to_contain_text("None was made yet")
        page.locator('[data-act="pack-make"]').click()
        expect(page.locator("#packlist .packrow")).to_have_count(1, timeout=120_000)
        expect(page.locator("#packlist")).to_contain_text("Read back: worst 0.00")
        expect(page.locator('[data-act="pack-make"]')).to_contain_text("version 2")
        page.locator('[data-act="pack-make"]').click()
        expect(page.locator("#packlist .packrow")).to_have_count(2, timeout=120_000)
        page.locator("#packlist .link").first.click()
        expect(page.locator(".differs")).to_have_text("Nothing of it differs.")
        with page.expect_download() as down:
            page.locator("#packlist a.fig").first.click()
        down.value.save_as(tmp_path / "package.zip")
        page.locator('[data-act="handoff-files"]').click()
        expect(page.locator("#downloads")).to_be_visible()
        with page.expect_download() as single:
            page.locator("#downloads a").first.click()
        single.value.save_as(tmp_path / "camera.usda")
        page.locator("#judgefile").set_input_files(tmp_path / "camera.usda")
        expect(page.locator("#judged")).to_contain_text("Fits within", timeout=60_000)
        page.locator("#judgekeep").click()
        expect(page.locator("#toast")).to_contain_text("camera.usda: 0.", timeout=60_000)
        page.locator("#judgefile").set_input_files(tmp_path / "package.zip")
        expect(page.locator("#judgedworst")).to_contain_text("no camera that can be read")
    with zipfile.ZipFile(tmp_path / "package.zip") as archive:
        assert archive.testzip() is None
        archive.extractall(tmp_path)
    (home,) = [p for p in tmp_path.iterdir() if p.is_dir()]
    manifest = json.loads((home / "manifest.json").read_text())
    assert all(one["holds"] for one in manifest["proof"]) and manifest["version"] == 2
    (usd,), (glb,) = home.glob("*.usda"), home.glob("*.glb")
    stage = Usd.Stage.Open(str(usd))
    assert UsdGeom.GetStageMetersPerUnit(stage) == 1.0 and stage.GetStartTimeCode() == manifest["frames"][0]
    located = [one for one in stage.Traverse() if one.HasAttribute("amberkeel:track")]
    drawn = trimesh.load_scene(str(glb)).graph
    assert len(located) == sum(drawn[n][1] == "Locator" for n in drawn.nodes_geometry) == manifest["points"]
    assert len(list(home.glob("*plate*/*.png"))) == manifest["frames"][1] - manifest["frames"][0] + 1
    (straight,) = home.glob("*plate*/*.1001.png")
    height, width = cv2.imread(str(straight)).shape[:2]
    for film, size in (("plate", (width // 2 * 2, height // 2 * 2)), ("probes", (640, 360))):
        with av.open(str(next(home.glob(f"*_{film}_*.mp4")))) as container:
            stream = container.streams.video[0]
            assert (stream.width, stream.height, stream.frames) == (*size, 40)
    assert next(home.glob("*_report.pdf")).read_bytes().startswith(b"%PDF-")
    assert "<html" in next(home.glob("*_report.html")).read_text()[:200].lower()
    with session(database) as opened:
        rms = {one.name: one.figures["rms_px"] for one in opened.query(Attempt).filter_by(shot_id=number)}
        assert rms["Camera of camera.usda"] == pytest.approx(rms[""], rel=0.1)
    found = client.get(f"/shots/{number}/handoff.json").json
    assert found["packages"][0]["stale"] == "" and found["recipients"][0]["saved"]
    shown = client.get(f"/shots/{number}/state.json").json["stages"][7]
    assert shown["state"] == "settled" and shown["fact"].startswith("v002")
    with session(database) as opened:
        apply(opened, number, "scene", {"proxies": {"p1": {"kind": "box", "name": "Crate", "size": [1, 1, 1]}}})
    assert "changed since" in client.get(f"/shots/{number}/handoff.json").json["packages"][0]["stale"]
    assert client.get(f"/shots/{number}/state.json").json["stages"][7]["state"] == "look"
    with session(database) as opened:
        kept = storage(opened, from_environment().media)
        assert not any("packages" in str(path) for path in kept.loose) and kept.shots[number] > 10_000
    for path, body, said in (
        ("handoff/package", {"recipient": "nobody"}, "no recipient nobody"),
        ("handoff/package", {"recipient": "layout", "whole_set": True}, "is of no set"),
        ("handoff/recipients", {"recipient": {"name": "x", "formats": []}}, "at least 1 item"),
        ("handoff/recipients", {"remove": "layout"}, "no saved recipient"),
    ):
        assert said in post(path, body, 400)["error"], body
    assert "is deleted" in post("handoff/recipients", {"remove": "Layout, metres"})["said"]


@pytest.fixture
def pipeline(service, solved_shot):
    """Ask the API as a pipeline with its token does."""
    from amberkeel.web import create_app

    settings = from_environment()
    app = create_app(type(settings)(**{**vars(settings), "tokens": {"pipeline": TOKEN}}))
    asked = app.test_client()

    def ask(path, token=TOKEN):
        return asked.get(f"/api/v1/{path}", headers={"Authorization": f"Bearer {token}"})

    return ask


def test_a_pipeline_asks_and_fetches(pipeline, database, client, solved_shot):
    assert pipeline("shots", "wrong").status_code == 401 and pipeline("shots", "").status_code == 401
    assert client.get("/api/v1/shots").status_code == 401
    told = pipeline("openapi.json", "").json
    assert told["openapi"].startswith("3.") and "ShotOut" in told["components"]["schemas"]
    shot = pipeline(f"shots/{solved_shot}").json
    assert shot["id"] == solved_shot and {s["key"] for s in shot["stages"]} >= {"solve", "handoff"}
    assert solved_shot in [one["id"] for one in pipeline(f"shots?production={shot['production']}").json]
    assert shot["production"] in [one["id"] for one in pipeline("productions").json]
    attempts = pipeline(f"shots/{solved_shot}/attempts").json
    (pinned,) = [one for one in attempts if one["pinned"]]
    assert pipeline(f"attempts/{pinned['id']}/solve.json").json["format"] == "amberkeel-solve"
    for path, told_of in told["paths"].items():
        schema = told_of["get"]["responses"]["200"]["content"].get("application/json", {}).get("schema", {})
        if path.startswith("/shots/{id}/") and schema.get("type") == "array":
            name = schema["items"]["$ref"].rpartition("/")[2]
            fields = set(told["components"]["schemas"][name]["properties"])
            for row in pipeline(path.format(id=solved_shot)[1:]).json:
                assert set(row) == fields
    packages = pipeline(f"shots/{solved_shot}/packages").json
    assert packages and packages[0]["stale"]
    first = packages[0]["files"][0]
    sent = pipeline(f"packages/{packages[0]['id']}/files/{first['name']}")
    assert sent.status_code == 200 and len(sent.data) == first["bytes"]
    outside = f"packages/{packages[0]['id']}/files/../../x"
    for path in ("shots/99999", "packages/99999", outside, "attempts/99999/solve.json"):
        assert pipeline(path).status_code == 404, path
    with session(database) as opened:
        hold_shot(opened, solved_shot)
        opened.query(Package).filter_by(shot_id=solved_shot).delete()
        hold_shot(opened, solved_shot).scene = {}
    shutil.rmtree(from_environment().media / "packages" / str(solved_shot))


def test_the_command_line_has_packages_made_of_shots_by_name(client, database, solved_shot, tmp_path, monkeypatch):
    with session(database) as opened:
        shot = opened.get(Shot, solved_shot)
        name, production = shot.name, shot.production.name
    before = client.get(f"/shots/{solved_shot}/handoff.json").json["packages"]

    def exported(*words, of=production):
        return CliRunner().invoke(export, [*words, "--production", of, "--out", str(tmp_path / "out")])

    done = exported(name.split()[0].lower(), "--recipient", "tables")
    assert done.exit_code == 0 and "csv: read back, 0.00" in done.output, done.output
    (home,) = (tmp_path / "out").iterdir()
    latest = client.get(f"/shots/{solved_shot}/handoff.json").json["packages"][0]
    assert latest["version"] == 1 + max((one["version"] for one in before), default=0)
    assert (latest["who"], latest["folder"]) == ("command line", home.name) and list(home.glob("*_camera.csv"))
    for words, said in (
        (["SKL_999"], "no folder and no shot SKL_999. Shots: "),
        ([name, "--recipient", "nobody"], "no recipient nobody"),
        ([name, "--whole-set"], "is of no set"),
        ([name, str(tmp_path)], "do not go together"),
    ):
        done = exported(*words)
        assert done.exit_code == 1 and said in done.output, (words, done.output)
    assert "no folder and no shot" in exported(name, of="Nobody").output
    # The application is found by the environment, or by its data folder while it runs.
    own = {name: value for name, value in os.environ.items() if name.startswith("AMBERKEEL_")}
    monkeypatch.delenv("AMBERKEEL_DATABASE")
    done = exported(name, "--data", str(tmp_path))
    assert done.exit_code == 1 and "No application runs with the data folder" in done.output
    (tmp_path / "services.json").write_text(json.dumps(own))
    assert "no recipient nobody" in exported(name, "--data", str(tmp_path), "--recipient", "nobody").output


def test_the_core_is_installed_alone_and_its_examples_run(plate_folder, solution, tmp_path, capsys):
    source = tmp_path / "source"
    shutil.copytree(ROOT / "src", source / "src", ignore=shutil.ignore_patterns("__pycache__", "static", "*.egg-info"))
    shutil.copy(ROOT / "pyproject.toml", source)
    pip = [sys.executable, "-m", "pip", "install", "--quiet", "--no-deps", "--target", str(tmp_path / "site")]
    subprocess.run([*pip, str(source)], check=True, timeout=300)
    words = "import sys, amberkeel.core.handoff.judge as j; print(j.__file__, {'flask', 'sqlalchemy'} & {*sys.modules})"
    env = {**os.environ, "PYTHONPATH": str(tmp_path / "site")}
    asked = {"capture_output": True, "text": True, "env": env, "cwd": tmp_path, "check": True}
    ran = subprocess.run([sys.executable, "-c", words], **asked)
    assert str(tmp_path / "site") in ran.stdout and "set()" in ran.stdout
    out = tmp_path / "out"
    runpy.run_path(str(ROOT / "examples" / "solve_and_hand_over.py"))["main"](str(plate_folder / "plate"), str(out))
    said = capsys.readouterr().out
    assert "usda comes back within 0.00" in said and "_package_v001" in said, said
    (home,) = out.iterdir()
    (glb,) = home.glob("*.glb")
    (tmp_path / "tracks.csv").write_text(tracks_csv(solution.tracks))
    judge = runpy.run_path(str(ROOT / "examples" / "judge_a_camera.py"))["main"]
    with pytest.raises(Exception, match="straightened plate"):
        judge(str(plate_folder / "plate"), str(glb), str(tmp_path / "tracks.csv"))
