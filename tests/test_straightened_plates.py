"""Straightened plates in every format, ST maps as other programs read them, what files say of their camera."""

import json
from dataclasses import replace

import av
import numpy as np
import OpenImageIO as oiio
import pytest
from scipy.ndimage import map_coordinates

from amberkeel.core.camera import CameraPath, poses_at, row_times
from amberkeel.core.errors import KeelError, LensError
from amberkeel.core.geometry.pixels import pixel_grid
from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.lens import Lens
from amberkeel.core.lens.metadata import camera_facts
from amberkeel.core.lens.profile import LensProfile, read_profile
from amberkeel.core.lens.straighten import StraightenOrder, straighten_plate
from amberkeel.core.pictures.transfer import code_of_light, light_of_code
from amberkeel.core.pictures.write import write_picture
from amberkeel.core.plate.plate import open_plate

SIZE = (160, 90)
LENS = replace(Lens.centred(*SIZE, 120.0), radial=(-0.13, 0.02, 0.0), principal_px=(82.0, 44.0))
PROFILE = LensProfile("Wide", LENS, "chart", True, 0.4, 24.0, {"k1": 0.002})


def picture(kind):
    """A smooth picture (H, W, 3) of a kind of number."""
    x, y = np.meshgrid(np.linspace(0, 1, SIZE[0]), np.linspace(0, 1, SIZE[1]))
    plain = np.stack([0.5 + 0.4 * np.sin(7 * x + 2 * y), 0.5 + 0.4 * np.cos(5 * y), 0.2 + 0.6 * x * y], -1)
    return {
        "uint8": np.round(255 * plain).astype(np.uint8),
        "uint16": np.round(65535 * plain).astype(np.uint16),
        "float": (3.0 * plain).astype(np.float32),
    }[kind]


def read(path):
    """A picture as it lies in its file, with the type of its numbers."""
    source = oiio.ImageInput.open(str(path))
    spec = source.spec()
    pixels = np.asarray(source.read_image(spec.format)).reshape(spec.height, spec.width, -1)
    source.close()
    return pixels, str(spec.format)


@pytest.fixture
def plate(tmp_path):
    """Return a function that writes two frames and opens them."""

    def make(suffix, kind):
        folder = tmp_path / "plate"
        folder.mkdir()
        for frame in (7, 8):
            write_picture(folder / f"p.{frame:04d}{suffix}", picture(kind))
        return open_plate(folder)

    return make


@pytest.mark.parametrize(
    ("suffix", "kind", "wanted", "written", "held"),
    [
        (".png", "uint8", "", ".png", "uint8"), (".png", "uint16", "", ".png", "uint16"), (".tif", "uint16", "",
          ".tif", "uint16"), (".exr", "float", "", ".exr", "half"),
        (".exr", "float", "png", ".png", "uint8"), (".png", "uint8", "exr", ".exr", "half"), (".tif", "uint16",
          "jpg", ".jpg", "uint8"), (".png", "uint8", "tif", ".tif", "uint8"),
    ],
)  # fmt: skip
def test_a_plate_keeps_its_depth_or_is_turned_into_what_is_asked(plate, tmp_path, suffix, kind, wanted, written, held):
    made, out = plate(suffix, kind), tmp_path / "out"
    canvas = straighten_plate(made, PROFILE, out, StraightenOrder("same", "linear", wanted, False))
    assert (canvas.width, canvas.height) == SIZE and sorted(p.name for p in out.iterdir()) == [
        f"p_straight.0007{written}",
        f"p_straight.0008{written}",
        "straight.json",
    ]
    pixels, kept = read(out / f"p_straight.0008{written}")
    assert kept == held
    centre = pixels[44, 82].astype(float)
    true = picture(kind)[44, 82].astype(float)
    if (kind, wanted) == ("uint8", "exr"):
        true = light_of_code(picture("uint8")[44:45, 82:83])[0, 0]
    if (kind, wanted) == ("float", "png"):
        true = np.minimum(255.0 * code_of_light(picture("float")[44, 82]), 255.0)
    if wanted == "jpg":
        true = true / 257.0
    assert centre == pytest.approx(true, rel=0.03, abs=3.0 if held == "uint8" else 0.01)


def test_st_maps_give_the_same_picture_to_whoever_reads_them(plate, tmp_path):
    made, out = plate(".exr", "float"), tmp_path / "out"
    canvas = straighten_plate(made, PROFILE, out, StraightenOrder("all", "linear", "", True))
    straight, _ = read(out / "p_straight.0007.exr")
    st, kept = read(out / "undistort_st.exr")
    assert kept == "float" and st.shape[:2] == (canvas.height, canvas.width) == straight.shape[:2]

    def sampled(source, st):
        """The convention as documented: S to the right, T upwards, centres of pixels at a half."""
        height, width = source.shape[:2]
        x, y = st[..., 0] * width - 0.5, (1.0 - st[..., 1]) * height - 0.5
        inside = (x > 0.5) & (x < width - 1.5) & (y > 0.5) & (y < height - 1.5)
        return np.stack(
            [map_coordinates(source[..., c].astype(float), [y, x], order=1, mode="nearest") for c in range(3)], -1
        ), inside

    ours, inside = sampled(picture("float"), st)
    assert inside.mean() > 0.75 and np.abs(ours - straight)[inside].max() < 0.01
    back, there = sampled(straight, read(out / "redistort_st.exr")[0])
    # At the plate's border the canvas beside it is empty.
    there[:3], there[-3:], there[:, :3], there[:, -3:] = False, False, False, False
    assert there.mean() > 0.85 and np.abs(back - picture("float"))[there].max() < 0.03


@pytest.mark.parametrize("overscan", ["all", "crop", "same", 15.0])
def test_the_straightened_plate_s_lens_bends_nothing_and_sees_the_same(plate, tmp_path, overscan):
    out = tmp_path / "out"
    canvas = straighten_plate(plate(".png", "uint8"), PROFILE, out, StraightenOrder(overscan, "linear", "", False))
    straight = read_profile(json.loads((out / "straight.json").read_text())).lens
    assert straight.radial == (0.0, 0.0, 0.0) and (straight.width, straight.height) == (canvas.width, canvas.height)
    rays = np.array([[0.1, 0.05, 1.0], [-0.4, 0.2, 1.0], [0.0, -0.3, 1.0]])
    on_canvas = straight.project(rays)
    straightened = LENS.normalise(LENS.project(rays)) * np.array(LENS.focal_px) + np.array(LENS.principal_px)
    assert on_canvas == pytest.approx(straightened + [canvas.left, canvas.top], abs=1e-6)


def test_a_plate_that_cannot_be_straightened_says_why(plate, tmp_path):
    made = plate(".png", "uint8")
    folding = replace(PROFILE, lens=replace(LENS, radial=(-1.2, 0.0, 0.0)))
    other = LensProfile("Other", Lens.centred(160, 160, 120.0), "chart")
    for profile, order, words in (
        (folding, StraightenOrder("all", "linear", "", False), "fold"),
        (other, StraightenOrder("all", "linear", "", False), "another shape"),
        (PROFILE, StraightenOrder("all", "linear", "gif", False), "no format"),
        (PROFILE, StraightenOrder(900.0, "linear", "", False), "overscan"),
    ):
        with pytest.raises(LensError, match=words):
            straighten_plate(made, profile, tmp_path / "out", order)
    with pytest.raises(KeelError, match="cannot be written"):
        write_picture(tmp_path / "none" / "x.png", picture("uint8"))


def video(path, tags, aspect=None):
    with av.open(str(path), "w") as container:
        stream = container.add_stream("mpeg4", rate=24)
        stream.width, stream.height, stream.pix_fmt = 64, 48, "yuv420p"
        container.metadata.update(tags)
        if aspect:
            stream.codec_context.sample_aspect_ratio = aspect
        for _ in range(2):
            for packet in stream.encode(av.VideoFrame.from_ndarray(np.zeros((48, 64, 3), np.uint8), format="rgb24")):
                container.mux(packet)
        for packet in stream.encode():
            container.mux(packet)


def test_what_a_video_says_of_its_camera_is_read(tmp_path):
    video(tmp_path / "a.mkv", {"camera_focal_length.35mm_equivalent": "26", "title": "slate 4"})
    found = camera_facts(tmp_path / "a.mkv")
    assert found.equivalent_mm == 26.0 and found.focal_mm is None and found.source == "video" and found.any
    video(tmp_path / "b.mkv", {"FocalLength": "24.5 mm"})
    assert camera_facts(tmp_path / "b.mkv").focal_mm == 24.5
    video(tmp_path / "c.mkv", {"title": "slate 5"})
    assert not camera_facts(tmp_path / "c.mkv").any
    (tmp_path / "d.mp4").write_bytes(b"no video")
    assert not camera_facts(tmp_path / "d.mp4").any


@pytest.mark.parametrize(("unit", "per_mm"), [(2, 1 / 25.4), (3, 0.1), (4, 1.0)])
def test_a_picture_s_sensor_follows_from_its_pixels_a_length(tmp_path, unit, per_mm):
    spec = oiio.ImageSpec(640, 480, 3, oiio.UINT8)
    spec.attribute("Exif:FocalLength", 35.0)
    spec.attribute("Exif:FocalPlaneXResolution", float(640 / 23.5 / per_mm))
    spec.attribute("Exif:FocalPlaneResolutionUnit", unit)
    output = oiio.ImageOutput.create(str(tmp_path / "s.jpg"))
    output.open(str(tmp_path / "s.jpg"), spec)
    output.write_image(np.zeros((480, 640, 3), np.uint8))
    output.close()
    found = camera_facts(tmp_path / "s.jpg")
    assert found.focal_mm == pytest.approx(35.0) and found.sensor_width_mm == pytest.approx(23.5, rel=1e-3)


def test_rows_of_a_rolling_shutter_are_set_upright(tmp_path):
    # A camera that pans over a picture at infinity, whose rows are read one after another.
    lens = replace(LENS, principal_px=(80.0, 45.0))
    turns = np.array([rotation_exp(np.array([0.0, 0.05 * k, 0.01 * k])) for k in range(3)])
    path = CameraPath(np.arange(7, 10), np.zeros((3, 3)), turns, lens, readout=0.8)
    grid = pixel_grid(*SIZE).reshape(-1, 2)

    def world(rays):
        """What is seen along rays (N, 3) of the world, 0 to 1."""
        heading, up = rays[:, 0] / rays[:, 2], rays[:, 1] / rays[:, 2]
        return 0.5 + 0.2 * np.sin(9.0 * heading + 1.0) + 0.2 * np.cos(11.0 * up)

    def seen(rotations, straight):
        rays = np.concatenate([straight, np.ones((len(straight), 1))], 1)
        return world(np.einsum("nij,nj->ni", rotations, rays)).reshape(SIZE[::-1])

    folder, out = tmp_path / "plate", tmp_path / "out"
    folder.mkdir()
    rotations, _ = poses_at(turns, path.positions, np.full(len(grid), 1), row_times(grid[:, 1], SIZE[1], 0.8))
    rolled = seen(rotations, lens.normalise(grid))
    for frame in (7, 8, 9):
        write_picture(folder / f"p.{frame:04d}.exr", np.repeat(rolled[..., None], 3, 2).astype(np.float32))
    plate = open_plate(folder)
    straighten_plate(plate, LensProfile("Rolling", lens, "chart"), out, StraightenOrder("same", upright=path))
    upright = read(next(out.glob("*.0008.exr")))[0][..., 0].astype(float)
    true = seen(np.tile(turns[1], (len(grid), 1, 1)), (grid - [80.0, 45.0]) / 120.0)
    inside = upright > 0.0
    assert inside.mean() > 0.8 and np.percentile(np.abs(upright - true)[inside], 98) < 0.004
    for wrong, said in (
        (replace(path, readout=0.0), "all rows at once"),
        (replace(path, frames=path.frames + 9), "reach"),
    ):
        with pytest.raises(LensError, match=said):
            straighten_plate(plate, LensProfile("Rolling", lens, "chart"), out, StraightenOrder(upright=wrong))
