"""Plates come in from files; bad ones get a sentence."""

import shutil
from fractions import Fraction

import av
import numpy as np
import OpenImageIO as oiio
import pytest

from amberkeel.core.errors import FollowError, PlateError
from amberkeel.core.follow import follow_plate
from amberkeel.core.pictures.read import read_picture
from amberkeel.core.pictures.write import write_png
from amberkeel.core.plate.plate import GrayFrames, matte_reader, open_plate
from amberkeel.core.plate.sequence import recognise, run_words, spans


def picture(k: int = 0, size=(40, 64)) -> np.ndarray:
    return np.random.default_rng(k).integers(0, 255, (*size, 3)).astype(np.uint8)


@pytest.fixture
def folder(tmp_path):
    for k in range(1001, 1007):
        write_png(tmp_path / f"skl.{k}.png", picture(k))
    return tmp_path


def video(path, frames=30, size=(64, 96)):
    with av.open(str(path), "w") as out:
        stream = out.add_stream("mpeg4", rate=Fraction(24000, 1001))
        stream.height, stream.width = size
        for k in range(frames):
            out.mux(stream.encode(av.VideoFrame.from_ndarray(picture(k, size), format="rgb24")))
        out.mux(stream.encode())
    return path


def test_folder_pattern_and_range(folder):
    for where in (folder, folder / "skl.####.png", folder / "skl.%04d.png"):
        plate = open_plate(where)
        assert plate.frames.tolist() == list(range(1001, 1007)) and (plate.width, plate.height) == (64, 40)
    assert np.array_equal(open_plate(folder).read(1003), picture(1003))
    assert open_plate(folder, (1002, 1004)).frames.tolist() == [1002, 1003, 1004]
    gray = GrayFrames(plate, budget=0)
    assert all(gray.get(f).shape == (40, 64) for f in (1001, 1006, 1001))
    gray.close()


@pytest.mark.parametrize(
    ("suffix", "kind"), [("tif", oiio.UINT16), ("dpx", oiio.UINT16), ("exr", oiio.HALF), ("jpg", oiio.UINT8)]
)
def test_every_format_reads_alike(tmp_path, suffix, kind):
    flat = np.full((40, 64, 3), 0.5, np.float32)
    out = oiio.ImageOutput.create(str(tmp_path / f"a.{suffix}"))
    out.open(str(tmp_path / f"a.{suffix}"), oiio.ImageSpec(64, 40, 3, kind))
    out.write_image(flat)
    out.close()
    code = read_picture(tmp_path / f"a.{suffix}")
    assert code.shape == (40, 64, 3) and code.dtype == np.uint8
    assert abs(int(code[20, 30, 1]) - (188 if suffix == "exr" else 128)) <= 2


def test_video_reads_in_any_order(tmp_path):
    plate = open_plate(video(tmp_path / "clip.mp4"))
    assert plate.frames[[0, -1]].tolist() == [1, 30] and plate.fps == Fraction(24000, 1001)
    first = plate.read(5)
    plate.read(20)
    assert np.array_equal(plate.read(5), first)


def test_one_frame_is_a_plate_on_which_nothing_can_be_followed(folder, tmp_path):
    (tmp_path / "one").mkdir()
    shutil.copy(folder / "skl.1001.png", tmp_path / "one")
    plate = open_plate(tmp_path / "one")
    assert plate.frames.tolist() == [1001]
    with pytest.raises(FollowError, match="nothing to follow"):
        follow_plate(plate)


def test_bad_plates_get_a_sentence(folder, tmp_path):
    cases = []
    gap = tmp_path / "gap"
    gap.mkdir()
    for k in (1, 2, 4, 5):
        write_png(gap / f"g.{k:03d}.png", picture())
    cases.append((gap, "no frame 3"))
    for name, words in (("text", "cannot be read as a picture"), ("cut", "damaged|cannot be read")):
        (tmp_path / name).mkdir()
        for k in (1, 2):
            good = (folder / "skl.1001.png").read_bytes()
            (tmp_path / name / f"t.{k}.png").write_bytes(b"not a picture" if name == "text" else good[: len(good) // 2])
        cases.append((tmp_path / name, words))
    cases += [
        (tmp_path / "empty.mov", "no folder|No files match"),
        (tmp_path / "none" / "x.#.png", "no folder"),
    ]
    whole = video(tmp_path / "whole.mp4", 60).read_bytes()
    (tmp_path / "cut.mp4").write_bytes(whole[: len(whole) * 2 // 3])
    cases.append((tmp_path / "cut.mp4", "cannot be read as a video"))
    for where, words in cases:
        with pytest.raises(PlateError, match=words):
            open_plate(where)
    write_png(folder / "skl.1004.png", picture(0, (20, 30)))
    with pytest.raises(PlateError, match="Frame 1004 is 30x20"):
        open_plate(folder).read(1004)
    with pytest.raises(PlateError, match="no frames in 1-5"):
        open_plate(folder, (1, 5))


def test_mattes_must_fit(folder, tmp_path):
    (tmp_path / "m").mkdir()
    write_png(tmp_path / "m" / "m.1001.png", np.zeros((40, 64), np.uint8))
    write_png(tmp_path / "m" / "m.1002.png", np.zeros((40, 64), np.uint8))
    with pytest.raises(PlateError, match="no frame 1003-1006"):
        matte_reader(tmp_path / "m", open_plate(folder))
    for k in range(1001, 1007):
        write_png(tmp_path / "m" / f"m.{k}.png", np.zeros((41, 64), np.uint8))
    with pytest.raises(PlateError, match="the plate is 64x40"):
        matte_reader(tmp_path / "m", open_plate(folder))


def test_sequences_are_told_apart(tmp_path):
    found = recognise(tmp_path, ["a.1.png", "a.2.png", "a.4.png", "b_0001.exr", "b_0002.exr", "notes.txt", "c.png"])
    assert [(s.label, s.gaps) for s in found] == [("a.#.png", [(3, 3)]), ("b_####.exr", [])]
    assert spans([1, 2, 3, 7]) == "1-3, 7"


def test_numbers_far_apart_cost_nothing(tmp_path):
    names = ["a.0000000001.png", "a.2000000000.png", "a.0000000003.png", "a.99999999999999999999.png"]
    (far,) = recognise(tmp_path, names)
    assert far.frames == [1, 3] and far.gaps == [(2, 2)]
    (near,) = recognise(tmp_path, [names[0], names[2], "a.0999999999.png"])
    assert run_words(near.gaps) == "2, 4-999999998"
    for name in (names[0], names[2], "a.0999999999.png"):
        write_png(tmp_path / name, np.zeros((8, 8), np.uint8))
    with pytest.raises(PlateError, match="4-999999998"):
        open_plate(tmp_path)
    with pytest.raises(PlateError, match="no frames in 7-900000000"):
        open_plate(tmp_path, (7, 900000000))
    with pytest.raises(PlateError, match="2, 4-900000000"):
        open_plate(tmp_path, (1, 900000000))
