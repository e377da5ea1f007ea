"""Models and their inverses, straightened canvases, ST maps, profiles, sensors, the command line."""

import json
from dataclasses import replace

import cv2
import numpy as np
import OpenImageIO as oiio
import pytest
from click.testing import CliRunner
from simulated import cloud, moving_camera, observe

from amberkeel.cli import main
from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import LensError
from amberkeel.core.lens import Lens
from amberkeel.core.lens.from_st_map import lens_of_map, way_of
from amberkeel.core.lens.kernels import distort_one, slope_one
from amberkeel.core.lens.metadata import camera_facts
from amberkeel.core.lens.picture import Resampler, bent_grid, canvas_for, redistort_map, undistort_map
from amberkeel.core.lens.profile import LensProfile, check_lens, profile_document, read_profile
from amberkeel.core.lens.sensor import filmed_width_mm, length_mm, pixel_formats, width_from_equivalent
from amberkeel.core.lens.straighten import write_st_maps
from amberkeel.core.pictures.write import write_picture
from amberkeel.core.solve.held_lens import straight_px, with_focal
from amberkeel.core.solve.lens_plan import LensChoice
from amberkeel.core.solve.recipe import Recipe
from amberkeel.core.solve.solve import solve_tracks
from amberkeel.core.solve_order import with_profile

PLAIN = Lens.centred(320, 180, 240.0)
MODELS = {
    "barrel": replace(PLAIN, radial=(-0.15, 0.03, 0.0)),
    "pincushion": replace(PLAIN, radial=(0.1, 0.02, 0.0), tangential=(0.004, -0.003), principal_px=(166.0, 88.0)),
    "division": replace(PLAIN, division=-0.14),
    "division out": replace(PLAIN, division=0.08),
    "two-axis": replace(
        PLAIN, focal_px=(240.0, 250.0), two_axis=(-0.08, 0.02, 0.01, 0.0, 0.0, -0.03, -0.05, 0.0, 0.01, 0.0), turn=0.02
    ),
}


@pytest.mark.parametrize("lens", MODELS.values(), ids=MODELS)
def test_models_are_inverted_everywhere_and_have_true_derivatives(lens):
    for overscan in ("all", "crop", "same", 15.0):
        canvas = canvas_for(lens, overscan)
        there = undistort_map(lens, canvas)
        back = straight_px(lens, there) + [canvas.left, canvas.top]
        x, y = np.meshgrid(np.arange(canvas.width) + 0.5, np.arange(canvas.height) + 0.5)
        assert np.abs(back - np.stack([x, y], -1)).max() < 1e-3
    c, h, p = lens.coefficients, 1e-6, (0.31, -0.2)
    numeric = [
        (distort_one(c, p[0] + a * h, p[1] + b * h)[k] - distort_one(c, p[0] - a * h, p[1] - b * h)[k]) / (2 * h)
        for k in (0, 1)
        for a, b in ((1, 0), (0, 1))
    ]
    assert slope_one(c, *p) == pytest.approx(numeric, abs=1e-7)
    moved = with_focal(lens, 300.0)
    px = np.array([[10.0, 20.0], [300.0, 90.0], [160.0, 170.0]])
    assert (straight_px(moved, px) == pytest.approx(straight_px(lens, px), abs=1e-8)) and moved.focal_px[
        0
    ] == pytest.approx(300.0)


def test_canvases_lose_no_pixel_or_show_no_empty_one():
    lens = MODELS["barrel"]
    whole = canvas_for(lens, "all")
    at = redistort_map(lens, whole)
    assert (at > 0).all() and (at < [whole.width, whole.height]).all() and whole.width > lens.width
    out = canvas_for(MODELS["division out"], "crop")
    inside = undistort_map(MODELS["division out"], out)
    assert (inside > -0.01).all() and (inside < [320.01, 180.01]).all() and out.width < 320
    picture = cv2.GaussianBlur(np.random.default_rng(1).integers(0, 255, (180, 320, 3)).astype(np.float32), (0, 0), 2.0)
    straight = Resampler(undistort_map(lens, whole), "cubic")(picture)
    again = Resampler(redistort_map(lens, whole), "cubic")(straight)
    assert straight.shape == (whole.height, whole.width, 3)
    assert np.abs(again - picture)[8:-8, 8:-8].mean() < 0.02 * picture.std()
    assert len(bent_grid(lens)) == 22


def test_a_lens_that_folds_over_is_told_and_refused():
    folding = replace(PLAIN, radial=(-0.9, 0.0, 0.0))
    assert 0.3 < folding.folds() < 1.0
    for refused in (lambda: canvas_for(folding), lambda: check_lens(folding)):
        with pytest.raises(LensError, match="fold"):
            refused()
    for bad in (replace(PLAIN, pixel_aspect=0.0), replace(PLAIN, focal_px=(0.0, 0.0)), replace(PLAIN, width=2)):
        with pytest.raises(LensError):
            check_lens(bad)
    with pytest.raises(LensError, match="overscan"):
        canvas_for(PLAIN, 900.0)


@pytest.mark.parametrize("name", list(MODELS))
@pytest.mark.parametrize("way", ["undistort", "redistort"])
def test_an_st_map_tells_its_lens(name, way, tmp_path):
    """Straightened pixels lie where the true lens has them, whatever canvas the map was written for."""
    true = MODELS[name]
    for overscan in ("all", 8.0):
        write_st_maps(true, canvas_for(true, overscan), tmp_path)
        found = lens_of_map(tmp_path / f"{way}_st.exr", (320, 180), way, 240.0, true.pixel_aspect)
        grid = np.stack(np.meshgrid(np.linspace(2, 318, 20), np.linspace(2, 178, 12)), -1)
        apart = [lens.normalise(grid) * lens.focal_px for lens in (true, found.profile.lens)]
        off = apart[0] - apart[1] + np.array(true.principal_px) - found.profile.lens.principal_px
        # What a lens of two axes squeezes and what an unknown canvas does are hard to tell apart.
        most = 0.15 if name == "two-axis" else 0.03
        assert found.rms_px < most and np.sqrt(((off - off.mean((0, 1))) ** 2).sum(-1).mean()) < 3.0 * most


def test_what_is_no_st_map_is_refused(tmp_path):
    maps, size = tmp_path / "undistort_st.exr", (320, 180)
    write_st_maps(MODELS["barrel"], canvas_for(MODELS["barrel"], "all"), tmp_path)
    flat, picture = tmp_path / "flat.exr", tmp_path / "picture.png"
    write_picture(flat, np.full((180, 320, 3), 0.3, np.float32), whole_float=True)
    write_picture(picture, np.zeros((180, 320, 3), np.uint8))
    noise = tmp_path / "noise.exr"
    write_picture(noise, np.random.default_rng(0).random((180, 320, 3), np.float32), whole_float=True)
    for path, way, asked, said in (
        (maps, "", size, "straighten the plate, or bend"),
        (maps, "redistort", (320, 140), "not of its picture"),
        (flat, "undistort", size, "do not go over a picture"),
        (picture, "undistort", size, "two channels of floating point"),
        (noise, "undistort", size, "No lens comes close"),
    ):
        with pytest.raises(LensError, match=said):
            lens_of_map(path, asked, way)
    assert [way_of(n) for n in ("a_redistort_v1.exr", "undistort.exr", "lens_distort.exr", "map.exr")] == [
        "redistort", "undistort", "redistort", ""
    ]  # fmt: skip
    out = tmp_path / "lens.json"
    run = CliRunner().invoke(main, ["lens", "map", str(maps), "--size", "320x180", "--out", str(out)])
    assert run.exit_code == 0 and "Radial model: 0.0" in run.output, run.output
    assert not read_profile(json.loads(out.read_text())).focal_known
    wrong = CliRunner().invoke(main, ["lens", "map", str(maps), "--size", "320", "--out", str(out)])
    assert wrong.exit_code == 2 and "1920x1080" in wrong.output


def test_profiles_are_read_back_rescaled_and_refused():
    profile = LensProfile("Wide", MODELS["two-axis"], "chart", True, 1.5, 24.0, {"k1": 0.01, "cx": 2.0}, ["A note."])
    profile = replace(profile, readout=0.4)
    again = read_profile(json.loads(json.dumps(profile_document(profile))))
    assert again == profile
    held = with_profile(Recipe(), again)
    assert (held.rows, held.readout) == ("known", 0.4) and with_profile(Recipe(rows="off"), again).rows == "off"
    double = again.rescaled(640, 360)
    px = np.array([[20.0, 30.0], [200.0, 150.0]])
    assert double.lens.normalise(2 * px) == pytest.approx(again.lens.normalise(px)) and double.sigma["cx"] == 4.0
    with pytest.raises(LensError, match="another shape"):
        again.rescaled(640, 400)
    document = profile_document(profile)
    for spoilt in (
        {},
        {**document, "format": "x"},
        {**document, "lens": {}},
        {**document, "readout": 1.5},
        {**document, "lens": {**document["lens"], "radial": [1, "x", 2]}},
        [],
    ):
        with pytest.raises(LensError):
            read_profile(spoilt)


def test_what_a_resolution_and_words_say_of_the_camera(tmp_path):
    assert [round(f.shows, 2) for f in pixel_formats(720, 576)] == [1.36, 1.82]
    assert pixel_formats(1440, 1080)[0].shows == pytest.approx(16 / 9) and pixel_formats(720, 486)[0].pixel_aspect < 1.0
    assert pixel_formats(2880, 2160)[0].pixel_aspect == 2.0 and pixel_formats(1920, 1080)[0].pixel_aspect == 1.0
    assert length_mm("0.98 in") == pytest.approx(24.892) and length_mm("24,9") == 24.9 and length_mm("2.4 m") == 2400.0
    assert length_mm("2,4", 1e6, "m") == 2400.0 and length_mm("95 in", 1e6, "m") == pytest.approx(2413.0)
    for bad in ("0 mm", "wide", "-3", "1e9"):
        with pytest.raises(LensError):
            length_mm(bad)
    assert filmed_width_mm(24.0, 0.5) == 12.0 and width_from_equivalent(25.0, 37.5) == 24.0
    with pytest.raises(LensError):
        filmed_width_mm(24.0, 0.0)
    spec = oiio.ImageSpec(64, 48, 3, oiio.UINT8)
    spec.attribute("Exif:FocalLength", 25.0)
    spec.attribute("Exif:FocalLengthIn35mmFilm", 37)
    output = oiio.ImageOutput.create(str(tmp_path / "still.jpg"))
    output.open(str(tmp_path / "still.jpg"), spec)
    output.write_image(np.zeros((48, 64, 3), np.uint8))
    output.close()
    found = camera_facts(tmp_path / "still.jpg")
    assert found.focal_mm == 25.0 and found.sensor_width_mm == pytest.approx(24.3, abs=0.1)
    assert not camera_facts(tmp_path / "none.jpg").any


def test_a_solve_holds_frees_and_zooms_the_lens(rng):
    true = moving_camera(30, 700.0, -0.12)
    tracks = observe(true, cloud(rng, 120), 0.1, rng)
    held = solve_tracks(
        tracks,
        true.frames,
        640,
        360,
        Recipe(held_lens=replace(Lens.centred(640, 360, 600.0), radial=(-0.12 * (600 / 700) ** 2, 0.0, 0.0))),
    )
    focal = held.path.lens.focal_px[0]
    assert abs(focal - 700.0) < 4.0 * held.focal_sigma_px and held.path.lens.radial[0] == pytest.approx(
        -0.12 * (focal / 700.0) ** 2
    )
    assert held.rms_px < 0.3 and held.lens_report.names == ["focal", "depth"]
    choices = {
        "focal": LensChoice("soft", 705.0, 0.5), "k1": LensChoice("fixed", -0.12),
        "cx": LensChoice("free"), "cy": LensChoice("free"),
    }  # fmt: skip
    soft = solve_tracks(tracks, true.frames, 640, 360, Recipe(lens=choices))
    assert soft.path.lens.focal_px[0] > 701.0 and soft.path.lens.radial == (-0.12, 0.0, 0.0)
    assert (
        np.abs(np.array(soft.path.lens.principal_px) - [320, 180]).max() < 12.0 and soft.lens_report.sigma("cx") > 0.0
    )
    zoom = np.exp(0.12 * np.sin(np.linspace(0.0, 2.0, 30)))
    zooming = CameraPath(true.frames, true.positions, true.world_from_camera, true.lens, zoom)
    found = solve_tracks(observe(zooming, cloud(rng, 150), 0.05, rng), true.frames, 640, 360, Recipe(zoom=True))
    focal = np.array([found.path.lens_at(k).focal_px[0] for k in range(30)])
    assert np.abs(focal / (700.0 * zoom) - 1.0).max() < 0.02


def test_the_command_line_tells_a_lens_from_lines_and_straightens_by_it(tmp_path):
    lens = replace(PLAIN, radial=(-0.2, 0.0, 0.0))
    rows = []
    for value in (-0.5, -0.3, 0.3, 0.5):
        for axis in (0, 1):
            u = np.empty((9, 2))
            u[:, axis], u[:, 1 - axis] = np.linspace(-0.55, 0.55, 9), 0.6 * value if axis == 0 else value
            px = lens.distort(u) * 240.0 + [160.0, 90.0]
            rows.append({"points": px[(px > 0).all(1) & (px < [320, 180]).all(1)].tolist()})
    lines, out = tmp_path / "lines.json", tmp_path / "lens.json"
    lines.write_text(
        json.dumps({"image": {"width": 320, "height": 180}, "focal_px": 240.0, "radial": 1, "lines": rows})
    )
    run = CliRunner().invoke(main, ["lens", "lines", str(lines), "--out", str(out)])
    assert run.exit_code == 0, run.output
    profile = read_profile(json.loads(out.read_text()))
    assert profile.lens.radial[0] == pytest.approx(-0.2, abs=2e-3)
    plate = tmp_path / "plate"
    plate.mkdir()
    for k in range(3):
        output = oiio.ImageOutput.create(str(plate / f"p.{k + 1:04d}.exr"))
        output.open(str(plate / f"p.{k + 1:04d}.exr"), oiio.ImageSpec(320, 180, 3, oiio.HALF))
        output.write_image(np.full((180, 320, 3), 2.5, np.float32))
        output.close()
    run = CliRunner().invoke(
        main,
        [
            "undistort",
            str(plate),
            "--lens",
            str(out),
            "--out",
            str(tmp_path / "straight"),
            "--st-maps",
            "--overscan",
            "crop",
        ],
    )
    assert run.exit_code == 0, run.output
    straight = oiio.ImageInput.open(str(tmp_path / "straight" / "p_straight.0001.exr")).read_image(oiio.FLOAT)
    assert np.asarray(straight).max() == pytest.approx(2.5)
    maps = {
        name: np.asarray(oiio.ImageInput.open(str(tmp_path / "straight" / f"{name}_st.exr")).read_image(oiio.FLOAT))
        for name in ("undistort", "redistort")
    }
    assert maps["redistort"].shape[:2] == (180, 320) and maps["redistort"][90, 160, 1] == pytest.approx(0.497, abs=0.01)
    assert maps["undistort"][10, 10, 1] > 0.85
    for bad, words in (
        ({"image": {"width": 320, "height": 180}, "lines": []}, "no lines"),
        ({"lines": rows}, "not complete"),
        ("x", "not complete"),
    ):
        lines.write_text(json.dumps(bad))
        run = CliRunner().invoke(main, ["lens", "lines", str(lines), "--out", str(out)])
        assert run.exit_code == 1 and words in run.output.lower()
    run = CliRunner().invoke(
        main, ["lens", "chart", str(plate), "--inner", "9by6", "--square-mm", "25", "--out", str(out)]
    )
    assert run.exit_code == 2 and "9x6" in run.output
