"""What leaves comes back as it was: every format, by other libraries where there are some, on every kind of camera."""

import json
import shutil
from dataclasses import replace
from fractions import Fraction
from types import SimpleNamespace

import av
import collada
import cv2
import numpy as np
import OpenImageIO as oiio
import pytest
import trimesh
from click.testing import CliRunner
from pxr import Gf, Usd, UsdGeom, UsdShade
from simulated import cloud, moving_camera, observe

from amberkeel.cli.convert import convert
from amberkeel.cli.export import export
from amberkeel.cli.judge import judge as judge_command
from amberkeel.cli.redistort import redistort
from amberkeel.cli.undistort import undistort
from amberkeel.core.errors import HandoffError, KeelError
from amberkeel.core.handoff import package as packages
from amberkeel.core.handoff.adopt import adopted
from amberkeel.core.handoff.compare import compared
from amberkeel.core.handoff.document import solve_document
from amberkeel.core.handoff.judge import camera_for, judged
from amberkeel.core.handoff.notes import lacking
from amberkeel.core.handoff.package import PackageOrder, make_package, read_manifest
from amberkeel.core.handoff.prove import MOST_PX, prove
from amberkeel.core.handoff.prove_plate import prove_plate
from amberkeel.core.handoff.recipient import READY, load_recipient, read_recipient
from amberkeel.core.handoff.scene import Moving, Thing, safe_name, scene_of, straightened, together
from amberkeel.core.handoff.track_table import tracks_csv
from amberkeel.core.handoff.writers import WRITERS, Convention
from amberkeel.core.lens import Lens
from amberkeel.core.lens.picture import canvas_for
from amberkeel.core.lens.profile import LensProfile, profile_document
from amberkeel.core.pictures.facts import timecode_of
from amberkeel.core.pictures.read import read_raw
from amberkeel.core.pictures.write import encode_png, write_png
from amberkeel.core.plate.plate import open_plate
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.world.solids import box

FRAMES = 12
LENSES = {
    "plain": {},
    "bent": {"radial": (-0.09, 0.02, 0.0), "tangential": (0.001, -0.002)},
    "off centre": {"principal_px": (331.0, 172.5)},
    "wide pixels": {"pixel_aspect": 1.5, "focal_px": (610.0, 915.0)},
    "all at once": {"radial": (-0.12, 0.0, 0.0), "principal_px": (309.2, 187.1)},
}


@pytest.fixture(scope="module")
def solved():
    """Return a solve, its tracks and its camera."""
    rng = np.random.default_rng(3)
    camera = moving_camera(FRAMES)
    tracks = observe(camera, cloud(rng, 60), 0.1, rng)
    return solve_tracks(tracks, camera.frames, 640, 360), tracks, camera


def scene_with(solved, lens=(), zoom=None, standing=False):
    """The scene of a solve with another lens, a zoom, or a camera that only turns; a box and a body in it."""
    solution, _, _ = solved
    one = scene_of(solve_document(solution, plate="skl"), 24.0, None, (), "SKL 999")
    (camera,) = one.cameras
    path = replace(camera.path, lens=replace(camera.path.lens, **dict(lens)), zoom=zoom)
    if standing:
        path = replace(path, positions=np.repeat(path.positions[:1], FRAMES, 0))
    crate = box(1.0, 0.8, 0.6).moved(np.eye(3), np.array([0.4, -0.2, 5.0]))
    frames = path.frames[2:9]
    body = Moving(
        "Crate_moving", frames, np.column_stack([0.1 * np.arange(7), np.zeros(7), np.full(7, 6.0)]),
        np.repeat(path.world_from_camera[:1], 7, 0), ("b1", "b2"), np.array([[0.0, 0.1, 0.2], [0.3, 0.0, -0.1]]),
    )  # fmt: skip
    picture = encode_png(np.full((8, 8, 4), 200, np.uint8))
    thing = Thing("Crate", "proxy", crate.vertices, crate.faces, crate.uv, picture)
    body = replace(body, things=(replace(thing, name="Lid", texture=b""),))
    return replace(one, cameras=(replace(camera, path=path),), things=(thing,), bodies=(body,))


@pytest.mark.parametrize("key", list(WRITERS))
def test_a_format_comes_back_as_it_left(key, solved, tmp_path):
    zoom = np.linspace(1.0, 1.3, FRAMES)
    scenes = [scene_with(solved, lens) for lens in LENSES.values()]
    scenes += [scene_with(solved, zoom=zoom), scene_with(solved, LENSES["all at once"], zoom, True)]
    writer = WRITERS[key]
    # With and without locators.
    scenes = [replace(one, locator=0.05 * (n % 2)) for n, one in enumerate(scenes)]
    for n, scene in enumerate([*scenes, *(straightened(s, "all", True) for s in scenes[:3])]):
        for wished in (Convention(0.01), Convention(1.0, "z", -1000), Convention(0.3048, "y", 7, True)):
            convention = replace(writer.convention(wished), fps=float(scene.fps))
            folder = tmp_path / f"{n}-{wished.up}{wished.offset}"
            for name, data in writer.write(scene, convention, "it").items():
                (folder / name).parent.mkdir(parents=True, exist_ok=True)
                (folder / name).write_bytes(data)
            proof = prove(scene, writer, convention, folder, "it")
            assert proof.holds, (n, wished, proof)
            assert proof.units < 2e-5 and not proof.px > 0.005
    lost = lacking(scenes[-1], writer)
    assert ("one focal length" in " ".join(lost)) == ("zoom" in writer.lacks)
    assert ("optical axis" in " ".join(lost)) == ("shift" in writer.lacks)


def test_meshes_take_their_pictures_along_and_points_are_locators(solved, tmp_path):
    scene = replace(scene_with(solved), locator=0.1)
    groups = tuple("hull" if k % 2 == 0 else "" for k in range(len(scene.points.names)))
    scene = replace(scene, points=replace(scene.points, groups=groups))
    picture = scene.things[0].texture
    for key in ("usda", "usdz", "glb", "gltf", "dae", "obj", "ply", "csv"):
        for name, data in WRITERS[key].write(scene, Convention(), key).items():
            (tmp_path / name).write_bytes(data)
    for key in ("usda", "dae", "obj"):
        assert (tmp_path / f"{key}_Crate.png").read_bytes() == picture
    # The stages stay in variables: a prim lives no longer than its stage.
    stages = [Usd.Stage.Open(str(tmp_path / f"{kind}.{kind}")) for kind in ("usda", "usdz")]
    gltf = json.loads((tmp_path / "gltf.gltf").read_text())
    for stage in stages:
        crate = stage.GetPrimAtPath("/Shot/Crate")
        material = UsdShade.MaterialBindingAPI(crate).ComputeBoundMaterial()[0]
        shader = UsdShade.Shader(stage.GetPrimAtPath(f"{material.GetPath()}/Picture"))
        found = shader.GetInput("file").Get()
        assert found.resolvedPath and found.path.endswith("_Crate.png")
        first = next(p for p in stage.Traverse() if p.GetAttribute("amberkeel:track").Get() == scene.points.names[0])
        assert np.allclose(UsdGeom.Xformable(first).GetLocalTransformation().ExtractTranslation(), scene.points.xyz[0])
        cross = UsdGeom.BasisCurves(first.GetChild("Cross")).GetPointsAttr().Get()
        assert np.ptp(np.array(cross), axis=0) == pytest.approx([0.1] * 3)
        assert stage.GetPrimAtPath("/Shot/Crate_moving/Lid").IsA(UsdGeom.Mesh)
    for stage in stages:
        assert list(stage.GetPrimAtPath("/Shot/Points").GetAttribute("amberkeel:groups").Get()) == list(groups)
    assert {"track": scene.points.names[0], "group": "hull"} in [one.get("extras") for one in gltf["nodes"]]
    assert (tmp_path / "obj.obj").read_text().count("\ng hull\n") == groups.count("hull")
    assert (tmp_path / "dae.dae").read_text().count('layer="hull"') == groups.count("hull")
    assert b"comment group 0 hull" in (tmp_path / "ply_points.ply").read_bytes()
    assert (tmp_path / "csv_points.csv").read_text().splitlines()[1].endswith(",hull")
    shown = trimesh.load_scene(str(tmp_path / "glb.glb"), process=False)
    assert shown.geometry["Crate"].visual.material.baseColorTexture.size == (8, 8)
    spot = next(node for node in shown.graph.nodes_geometry if shown.graph[node][1] == "Locator")
    assert spot in scene.points.names
    loaded = collada.Collada(str(tmp_path / "dae.dae"))
    assert [image.path for image in loaded.images] == ["dae_Crate.png"] and len(loaded.materials) == 1
    assert "map_Kd obj_Crate.png" in (tmp_path / "obj.mtl").read_text()


def test_somebody_elses_camera_is_an_attempt_that_is_not_moved(solved):
    _, tracks, camera = solved
    off = replace(camera, positions=camera.positions + np.random.default_rng(1).normal(0.0, 0.004, (FRAMES, 3)))
    found = adopted(off, tracks, camera.frames, "theirs.usda")
    assert np.abs(found.path.positions - off.positions).max() < 1e-7
    assert np.abs(found.path.world_from_camera - off.world_from_camera).max() < 1e-8
    middle = np.nanmedian(np.linalg.norm(found.residuals, axis=1))
    assert found.path.lens == off.lens and middle == pytest.approx(judged(off, tracks).median_px, rel=0.2)
    assert found.rms_px > 2.0 * adopted(camera, tracks, camera.frames, "true.usda").rms_px
    # A zoom of it stays what it is, too.
    zoom = np.linspace(0.9, 1.2, FRAMES)
    centre, share = np.array(camera.lens.principal_px), zoom[camera.rows_of(tracks.frames)][:, None]
    zoomed = adopted(
        replace(off, zoom=zoom), replace(tracks, xy=centre + (tracks.xy - centre) * share), camera.frames, "zoomed"
    )
    assert np.allclose(zoomed.path.zoom, zoom) and zoomed.rms_px == pytest.approx(found.rms_px, rel=0.3)
    rows = zoomed.path.rows_of(zoomed.tracks.frames)
    seen = zoomed.points.homogeneous[zoomed.tracks.track_of_sample]
    away = zoomed.path.project_homogeneous(seen, rows) - zoomed.tracks.xy
    known = np.isfinite(zoomed.residuals[:, 0])
    assert np.abs(away - zoomed.residuals)[known].max() < 1e-6
    with pytest.raises(HandoffError, match="has 6 frames of the plate"):
        adopted(replace(off, frames=off.frames + 6), tracks, camera.frames, "wrong")


def test_a_plate_is_written_anew_as_pictures_and_as_video_and_bent_back(tmp_path):
    """Frame numbers, depth and what the files say of themselves are kept; straightened and bent back is what it was."""
    rng, plate, run = np.random.default_rng(2), tmp_path / "plate", CliRunner()
    plate.mkdir()
    flat = cv2.GaussianBlur(rng.random((120, 200, 3)).astype(np.float32), (0, 0), 3.0)
    for frame in range(1001, 1005):
        spec = oiio.ImageSpec(200, 120, 3, oiio.HALF)
        spec.attribute("smpte:TimeCode", oiio.TypeDesc("timecode"), (0x01020304 + (frame - 1001 << 24), 0))
        spec.attribute("framesPerSecond", oiio.TypeDesc("rational"), (25, 1))
        spec.attribute("Exif:FocalLength", 31.5)
        file = oiio.ImageOutput.create(str(plate / f"skl.{frame}.exr"))
        assert file.open(str(plate / f"skl.{frame}.exr"), spec) and file.write_image(flat) and file.close()
    lens = tmp_path / "lens.json"
    bent = replace(Lens.centred(200, 120, 190.0), radial=(-0.08, 0.0, 0.0))
    lens.write_text(json.dumps(profile_document(LensProfile("Wide", bent, "typed"))))

    def keel(command, *words):
        done = run.invoke(command, [str(word) for word in words])
        assert done.exit_code == 0, done.output
        return done.output

    keel(undistort, plate, "--lens", lens, "--out", tmp_path / "straight")
    straight = tmp_path / "straight" / "straight.json"
    keel(redistort, tmp_path / "straight", "--lens", lens, "--straight", straight, "--out", tmp_path / "bent")
    back = tmp_path / "bent" / "skl_bent.1002.exr"
    inside = np.s_[8:-8, 8:-8]
    assert np.abs(read_raw(back) - flat)[inside].max() < 0.01 and read_raw(back).dtype == np.float32
    for path in (tmp_path / "straight" / "skl_straight.1002.exr", back):
        spec = oiio.ImageInput.open(str(path)).spec()
        assert spec.getattribute("Exif:FocalLength") == 31.5
        assert timecode_of(path) == timecode_of(plate / "skl.1002.exr") != timecode_of(plate / "skl.1001.exr")
    keel(convert, plate, "--out", tmp_path / "review.mp4")
    with av.open(str(tmp_path / "review.mp4")) as film:
        assert film.streams.video[0].average_rate == 25
        assert film.streams.video[0].metadata["timecode"] == timecode_of(plate / "skl.1001.exr")
    keel(convert, tmp_path / "review.mp4", "--out", tmp_path / "frames", "--first", "1001", "--format", "png")
    again = open_plate(tmp_path / "frames")
    assert again.frames.tolist() == [1001, 1002, 1003, 1004] and (again.width, again.height) == (200, 120)
    assert np.abs(again.read(1002).astype(float) - open_plate(plate).read(1002)).mean() < 3.0
    wrong = run.invoke(convert, [str(plate), "--out", str(lens / "sub")])
    assert wrong.exit_code and "cannot be written" in wrong.output
    other = run.invoke(
        redistort, [str(plate), "--lens", str(lens), "--straight", str(straight), "--out", str(tmp_path)]
    )
    assert other.exit_code and "straightened lens is of" in other.output


def test_a_file_that_was_bent_does_not_hold(solved, tmp_path):
    scene, writer = scene_with(solved), WRITERS["csv"]
    convention = writer.convention(Convention())
    for name, data in writer.write(scene, convention, "it").items():
        (tmp_path / name).write_bytes(data)
    assert prove(scene, writer, convention, tmp_path, "it").holds
    path = tmp_path / "it_camera.csv"
    lines = path.read_text().splitlines()
    cells = lines[5].split(",")
    lines[5] = ",".join([cells[0], f"{float(cells[1]) + 0.01:.9f}", *cells[2:]])
    path.write_text("\n".join(lines))
    proof = prove(scene, writer, convention, tmp_path, "it")
    assert not proof.holds and proof.px > MOST_PX
    path.write_text("\n".join(lines[:-2]))
    assert not prove(scene, writer, convention, tmp_path, "it").frames


def test_usd_is_what_its_own_camera_sees(solved, tmp_path):
    """USD's frustum, told nothing of ours, sees the points where the plate has them; so do a field of view and a matrix
    of the other formats.
    """
    scene = straightened(scene_with(solved, LENSES["all at once"], np.linspace(1.0, 1.2, FRAMES)))
    (camera,) = scene.cameras
    lens, frame = camera.path.lens, int(camera.path.frames[4])
    true = camera.path.project(scene.points.xyz, 4)
    for name, data in WRITERS["usdc"].write(scene, Convention(0.01, "z"), "it").items():
        (tmp_path / name).write_bytes(data)
    stage = Usd.Stage.Open(str(tmp_path / "it.usdc"))
    seen = UsdGeom.Camera(stage.GetPrimAtPath("/Shot/Camera")).GetCamera(frame).frustum
    whole = seen.ComputeViewMatrix() * seen.ComputeProjectionMatrix()
    points = UsdGeom.Points(stage.GetPrimAtPath("/Shot/Points")).GetPointsAttr().Get()
    flat = np.array([whole.Transform(Gf.Vec3d(*map(float, p))) for p in points])
    px = (flat[:, :2] * [0.5, -0.5] + 0.5) * [lens.width, lens.height]
    assert np.abs(px - true).max() < 0.01
    plain = straightened(scene_with(solved, {"radial": (-0.1, 0.0, 0.0)}))
    (camera,) = plain.cameras
    document = json.loads(WRITERS["gltf"].write(plain, Convention(), "it")["it.gltf"])
    view = document["cameras"][0]["perspective"]
    ahead = camera.path.to_camera(plain.points.xyz, 0) * [1.0, -1.0, -1.0]
    tall = np.tan(0.5 * view["yfov"])
    ndc = np.column_stack([ahead[:, 0] / view["aspectRatio"], ahead[:, 1]]) / (-ahead[:, 2:] * tall)
    px = (ndc * [0.5, -0.5] + 0.5) * [camera.path.lens.width, camera.path.lens.height]
    shift = np.array(camera.path.lens.principal_px) - [camera.path.lens.width / 2, camera.path.lens.height / 2]
    assert np.abs(px + shift - camera.path.project(plain.points.xyz, 0)).max() < 0.005


@pytest.fixture
def folder(solved, tmp_path):
    """Return a folder with a solve and its tracks, and its plate beside it."""
    solution, tracks, camera = solved
    home = tmp_path / "SKL_999"
    home.mkdir()
    (home / "solve.json").write_text(json.dumps(solve_document(solution, plate="skl")))
    (home / "tracks.csv").write_text(tracks_csv(solution.tracks))
    plate = tmp_path / "plate"
    plate.mkdir()
    for frame in camera.frames.tolist():
        write_png(plate / f"skl.{frame}.png", np.full((360, 640, 3), frame % 200, np.uint8))
    return home, plate


def test_a_straightened_plate_bent_back_is_what_it_was(tmp_path):
    rng = np.random.default_rng(5)
    picture = cv2.GaussianBlur(rng.integers(0, 255, (360, 640, 3)).astype(np.float32), (0, 0), 1.6)
    write_png(tmp_path / "p.1.png", picture.astype(np.uint8))
    write_png(tmp_path / "p.2.png", picture.astype(np.uint8))
    plate, plain = open_plate(tmp_path), Lens.centred(640, 360, 620.0)
    for bent in (
        {"radial": (-0.12, 0.03, 0.0), "tangential": (0.001, -0.001)},
        {"division": -0.15},
        {"two_axis": (-0.05, -0.07) + (0.0,) * 8, "turn": 0.02},
    ):
        lens = replace(plain, **bent)
        camera = SimpleNamespace(path=SimpleNamespace(lens=lens))
        for overscan in ("all", 10.0):
            proof = prove_plate(plate, camera, canvas_for(lens, overscan))
            assert proof.holds and proof.frame == 2, (bent, overscan, proof)


def test_a_package_is_whole_versioned_and_compared(folder, solved, tmp_path):
    home, plate = folder
    out = tmp_path / "packages"
    run = CliRunner()
    asked = [str(home), "--plate", str(plate), "--recipient", "compositing", "--out", str(out)]
    first = run.invoke(export, asked)
    assert first.exit_code == 0 and "SKL_999_package_v001" in first.output, first.output
    made = out / "SKL_999_package_v001"
    names = {path.name for path in made.rglob("*") if path.is_file()}
    assert {"README.txt", "manifest.json", "SKL_999_scene_v001.usdc", "undistort_st.exr"} <= names
    assert sum(name.endswith(".png") for name in names) == FRAMES
    manifest = read_manifest(made)
    assert manifest["proof"][0]["holds"] and manifest["frames"][1] - manifest["frames"][0] == FRAMES - 1
    assert "read back" in first.output and "How to read it" in (made / "README.txt").read_text()
    assert run.invoke(export, asked).output.count("v002") and not list(out.glob(".being*"))
    solution = solved[0]
    moved = replace(solution.path, positions=solution.path.positions + [0.002, 0.0, 0.0])
    order = PackageOrder(READY["compositing"], scene_with(solved), out, {"SKL_999": open_plate(plate)})
    again = scene_of(solve_document(replace(solution, path=moved)), 24.0, None, (), "SKL_999")
    said = compared(manifest, read_manifest(make_package(replace(order, scene=again)).folder))
    assert any("moved by up to" in line for line in said), said
    assert compared(manifest, manifest) == ["Nothing of it differs."]
    (made / "README.txt").write_text("other")
    with pytest.raises(HandoffError, match="was changed since"):
        read_manifest(made)


def test_what_cannot_leave_says_why_and_leaves_nothing(folder, solved, tmp_path, monkeypatch):
    home, plate = folder
    out = tmp_path / "packages"
    opened = open_plate(plate)
    scene = scene_with(solved)
    order = PackageOrder(READY["layout"], scene, out, {"SKL_999": opened})
    small = SimpleNamespace(width=320, height=180, frames=opened.frames, source=None)
    copied = READY["layout"].model_copy(update={"plates": "copied"})
    for wrong, said in (
        (replace(order, plates={"SKL_999": small}), "solved on 640x360, the plate is 320x180"),
        (replace(order, recipient=copied, plates={}), "is not at hand"),
        (replace(order, version=1, extra={"README.txt": b""}), "Two files would be called README.txt"),
    ):
        with pytest.raises(HandoffError, match=said):
            make_package(wrong)
    assert not list(out.iterdir())
    masked = READY["tables"].model_copy(update={"mattes": True})
    white = make_package(replace(order, recipient=masked, masks={"SKL_999": lambda _: np.ones((360, 640), bool)}))
    assert len(list(white.folder.glob("*mattes*/*.png"))) == FRAMES
    shutil.rmtree(white.folder)
    for plates, images, same in (("linked", "", True), ("copied", "", False), ("written", "tif", False)):
        kept = replace(order, recipient=READY["tables"].model_copy(update={"plates": plates, "images": images}))
        made = make_package(kept)
        found = sorted(made.folder.glob("*_plate_*/*"))
        assert len(found) == FRAMES and found[0].suffix == (".tif" if images else ".png")
        assert found[0].samefile(sorted(plate.glob("*.png"))[0]) is same
        shutil.rmtree(made.folder)

    def full(*_):
        raise OSError(28, "No space left on device")

    with monkeypatch.context() as patch:
        patch.setattr(packages, "_manifest", full)
        with pytest.raises(HandoffError, match="No space left"):
            make_package(order)
    assert not list(out.iterdir())
    one = make_package(replace(order, version=4))
    with pytest.raises(HandoffError, match="is there already"):
        make_package(replace(order, version=one.version))
    bad = [SimpleNamespace(format="csv", px=0.3, frames=True, trouble=(), holds=False)]
    with pytest.raises(HandoffError, match="0.300 px off"):
        packages._judge(bad, " ")
    packages._judge(bad, "the client asked for it")
    next(iter(plate.iterdir())).unlink()
    with pytest.raises(HandoffError, match="lacks frames that are solved"):
        make_package(replace(order, plates={"SKL_999": opened}))
    for given, said in (
        ({"name": "x", "formats": ["fbq"]}, "no format “fbq”"),
        ({"name": "x", "unit": "ell"}, "no unit of length"),
        ({"name": "x", "scale": 0}, "greater than 0"),
        ({"name": "x", "naming": "{shot}"}, "needs {what} and {version}"),
        ({"name": "x", "naming": "{shot}_{what}_{version}_{take}"}, "no token {take}"),
        ({"name": "x", "naming": "a/{what}{version}"}, "no / in it"),
        ({"name": "x", "overscan": "much"}, "overscan is all"),
    ):
        with pytest.raises(HandoffError, match=said):
            read_recipient(given)
    with pytest.raises(HandoffError, match="is no recipient"):
        load_recipient(tmp_path / "nobody.json")
    with pytest.raises(HandoffError, match="leaves no letter"):
        safe_name("///")
    assert run_fails([str(home), "--plate", "a", "--plate", "b", "--out", str(out)], "1 folders, 2 plates")
    assert run_fails([str(tmp_path / "none"), "--out", str(out)], "cannot be read")


def run_fails(words, said):
    run = CliRunner().invoke(export, words)
    return run.exit_code == 1 and said in run.output


def test_shots_of_one_set_leave_together(folder, tmp_path):
    home, _ = folder
    other = tmp_path / "SKL_998"
    shutil.copytree(home, other)
    out = tmp_path / "both"
    run = CliRunner().invoke(
        export, [str(home), str(other), "--name", "Quay", "--recipient", "everything", "--out", str(out)]
    )
    assert run.exit_code == 0, run.output
    manifest = read_manifest(out / "Quay_package_v001")
    assert [one["name"] for one in manifest["cameras"]] == ["SKL_999", "SKL_998"]
    assert all(one["holds"] for one in manifest["proof"])
    run = CliRunner().invoke(export, [str(home), str(other), "--each", "--recipient", "tables", "--out", str(out)])
    assert run.exit_code == 0 and (out / "SKL_998_package_v001").is_dir(), run.output
    one = scene_of(json.loads((home / "solve.json").read_text()), 24.0, None, (), "a")
    for wrong, said in (([one, one], "called a"), ([one, replace(one, fps=Fraction(25), cameras=())], "frame rate")):
        with pytest.raises(HandoffError, match=said):
            together(wrong, "set")


def test_anybodys_camera_is_judged(folder, solved, tmp_path):
    home, plate = folder
    _, tracks, camera = solved
    out = tmp_path / "packages"
    filmed = READY["everything"].model_copy(update={"lens": "distorted", "frame_offset": 100})
    recipient = tmp_path / "distorted.json"
    recipient.write_text(filmed.model_dump_json())
    run = CliRunner()
    assert run.invoke(export, [str(home), "--recipient", str(recipient), "--out", str(out)]).exit_code == 0
    stem = out / "SKL_999_package_v001" / "SKL_999_scene_v001"
    figures = []
    for suffix in (".usda", ".usdz", ".glb", ".gltf", ".dae", "_camera.csv"):
        found = judged(camera_for(stem.parent / f"{stem.name}{suffix}", open_plate(plate), offset=100), tracks)
        figures.append(found.rms_px)
    alone = judged(camera_for(home / "solve.json", open_plate(plate)), tracks)
    assert np.ptp(figures) < 0.01 and figures[0] == pytest.approx(alone.rms_px, abs=0.01) and alone.rms_px < 0.2
    wrong = (
        camera.path.with_focal(500.0)
        if hasattr(camera, "path")
        else replace(camera, lens=Lens.centred(640, 360, 450.0))
    )
    assert judged(wrong, tracks).median_px > 3 * alone.median_px
    report = tmp_path / "judged.json"
    words = ["--camera", f"{stem}.usda", "--tracks", str(home / "tracks.csv"), "--offset", "100", "--out", str(report)]
    ran = run.invoke(judge_command, [str(plate), *words])
    assert ran.exit_code == 0 and "px RMS over" in ran.output and "Worst frames" in ran.output, ran.output
    assert json.loads(report.read_text())["rms_px"] < 0.2
    small = tmp_path / "small"
    small.mkdir()
    for frame in range(1, 4):
        write_png(small / f"s.{frame}.png", np.zeros((300, 640), np.uint8))
    for path, of, said in (
        (tmp_path / "none.usda", plate, "no file"),
        (home / "tracks.csv", plate, "no camera path"),
        (stem.parent / f"{stem.name}.obj", plate, "no camera that can be read"),
        (stem.parent / f"{stem.name}.usda", small, "times as wide as high"),
        (stem.parent / f"{stem.name}.usda", plate, "Say by how much they differ"),
    ):
        with pytest.raises(KeelError, match=said):
            camera_for(path, open_plate(of))
