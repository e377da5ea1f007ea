"""Plates as cameras, phones and colour departments deliver them: each kind made small here, and read back."""

import struct
from fractions import Fraction

import av
import cv2
import numpy as np
import OpenImageIO as oiio
import pytest

from amberkeel.core.errors import PlateError
from amberkeel.core.pictures.facts import picture_facts
from amberkeel.core.pictures.read import read_picture, read_raw
from amberkeel.core.plate.cadence import CadenceWatch, cadence_words
from amberkeel.core.plate.plate import open_plate
from benchmarks import hostile

SIZE = (96, 160)
COUNT = 20


def moving(count: int = COUNT, step: float = 3.0) -> list[np.ndarray]:
    """Return frames (H, W, 3) uint8 of a smooth texture that slides by `step` pixels a frame."""
    rough = np.random.default_rng(1).random((SIZE[0] // 8 + 4, SIZE[1] // 8 + 30, 3)) * 180 + 30
    big = np.clip(cv2.resize(rough, None, fx=8, fy=8, interpolation=cv2.INTER_CUBIC), 0, 255).astype(np.float32)
    slid = [np.array([[1.0, 0.0, -step * k], [0.0, 1.0, -8.0]]) for k in range(count)]
    return [cv2.warpAffine(big, m, SIZE[::-1]).round().astype(np.uint8) for m in slid]


FRAMES = moving()


def write_video(path, codec, pixels, frames=None, times_ms=None, mark=None, **options):
    """Write a video; `times_ms` are the frames' own times, `mark` changes each frame before it is encoded."""
    with av.open(str(path), "w") as out:
        stream = out.add_stream(codec, rate=24)
        stream.height, stream.width, stream.pix_fmt, stream.options = *SIZE, pixels, options
        if times_ms is not None:
            stream.codec_context.time_base = Fraction(1, 1000)
        for k, picture in enumerate(frames or FRAMES):
            frame = av.VideoFrame.from_ndarray(picture, format="rgb24")
            frame = frame.reformat(format=pixels)
            if times_ms is not None:
                frame.pts, frame.time_base = times_ms[k], Fraction(1, 1000)
            if mark:
                mark(frame)
            out.mux(stream.encode(frame))
        out.mux(stream.encode())
    return path


def error(plate, frame: int) -> float:
    """Return how far the luma of a frame is from what was written, as the mean of absolute code values."""
    return float(np.abs(plate.gray(frame).astype(int) - cv2.cvtColor(FRAMES[frame - 1], cv2.COLOR_RGB2GRAY)).mean())


@pytest.mark.parametrize(
    ("name", "codec", "pixels"),
    [
        ("h264.mp4", "libx264", "yuv420p"),
        ("h265_10.mov", "libx265", "yuv422p10le"),
        ("h265_12.mkv", "libx265", "yuv420p12le"),
        ("prores.mov", "prores_ks", "yuv422p10le"),
        ("prores_alpha.mov", "prores_ks", "yuva444p10le"),
        ("jpegs_full_range.avi", "mjpeg", "yuvj420p"),
        ("lossless.mkv", "ffv1", "yuv444p"),
        ("sixteen.mkv", "ffv1", "gbrp16le"),
        ("vp9.webm", "libvpx-vp9", "yuv420p"),
        ("mpeg2.mxf", "mpeg2video", "yuv420p"),
    ],
)
def test_codecs_and_depths_read_in_any_order(tmp_path, name, codec, pixels):
    quiet = {"x265-params": "log-level=none:crf=10"} if codec == "libx265" else {}
    if codec in ("libx264", "libvpx-vp9"):
        quiet = {"crf": "10", "b": "0"}
    plate = open_plate(write_video(tmp_path / name, codec, pixels, **quiet))
    assert (plate.width, plate.height, len(plate.frames), plate.odd) == (160, 96, COUNT, ())
    bound = 2.5 if codec not in ("mjpeg", "mpeg2video") else 9.0
    assert max(error(plate, frame) for frame in (2, 15, 1, 20, 7)) < bound


def test_any_frame_is_reached_from_the_key_frame_before_it(tmp_path):
    plate = open_plate(write_video(tmp_path / "a.mp4", "libx264", "yuv420p", moving(60), g="6", bf="2"))
    inorder = [plate.read(k) for k in range(1, 61)]
    for k in np.random.default_rng(0).permutation(60):
        assert np.array_equal(plate.read(int(k) + 1), inorder[k])


def test_variable_rates_keep_their_times_and_dropped_frames_are_told(tmp_path):
    times = [int(1000 * (k / 30 + 0.006 * np.sin(k))) for k in range(COUNT)]
    plate = open_plate(write_video(tmp_path / "phone.mkv", "libx264", "yuv420p", times_ms=times), (5, 12))
    assert "frame rate varies" in plate.odd[0] and float(plate.fps) == pytest.approx(30, abs=0.3)
    assert plate.times == pytest.approx((np.array(times[4:12]) - times[4]) / 1000, abs=1e-3)
    gap = np.cumsum([0, *(80 if k == 6 else 40 for k in range(COUNT - 1))]).tolist()
    plate = open_plate(write_video(tmp_path / "gap.mkv", "libx264", "yuv420p", times_ms=gap))
    assert plate.odd == ("Frames were dropped after frame 7 (1), by their times.",) and plate.fps == 25


def test_what_decodes_of_a_broken_video_is_the_plate(tmp_path):
    whole = write_video(tmp_path / "whole.avi", "mjpeg", "yuvj420p").read_bytes()
    (tmp_path / "cut.avi").write_bytes(whole[: len(whole) * 2 // 3])
    plate = open_plate(tmp_path / "cut.avi")
    assert 8 < len(plate.frames) < COUNT and plate.odd[0].startswith(f"The file counts {COUNT} frames, of which")
    assert error(plate, int(plate.frames[-1])) < 9
    whole = write_video(tmp_path / "whole.mkv", "ffv1", "yuv444p").read_bytes()
    (tmp_path / "cut.mkv").write_bytes(whole[: len(whole) // 2])
    assert "should last about 20 frames" in open_plate(tmp_path / "cut.mkv").odd[0]
    start = whole.index(b"\x1a\x45\xdf\xa3")
    (tmp_path / "nothing.mkv").write_bytes(whole[start : start + 600])
    with pytest.raises(PlateError, match=r"nothing\.mkv"):
        open_plate(tmp_path / "nothing.mkv")


def test_a_phone_held_upright_is_turned(tmp_path):
    data = bytearray(write_video(tmp_path / "a.mp4", "libx264", "yuv420p", crf="8").read_bytes())
    matrix = data.find(b"tkhd") + 4 + 40
    assert struct.unpack(">9i", data[matrix : matrix + 36])[0] == 65536
    data[matrix : matrix + 36] = struct.pack(">9i", 0, 65536, 0, -65536, 0, 0, 0, 0, 1 << 30)
    (tmp_path / "turned.mp4").write_bytes(data)
    plate = open_plate(tmp_path / "turned.mp4")
    assert (plate.width, plate.height) == (96, 160) and "Turned upright by 90°" in plate.odd[0]
    upright = cv2.cvtColor(np.rot90(FRAMES[3], -1), cv2.COLOR_RGB2GRAY)
    assert np.abs(plate.gray(4).astype(int) - upright).mean() < 2.5


def test_interlaced_frames_show_one_moment(tmp_path):
    woven = []
    for early, late in zip(moving(COUNT, 6.0), moving(COUNT, 6.0)[1:]):
        picture = early.copy()
        picture[1::2] = late[1::2]
        woven.append(picture)
    path = write_video(
        tmp_path / "woven.mp4", "libx264", "yuv420p", woven, crf="6", **{"x264-params": "interlaced=1:tff=1"}
    )
    plate = open_plate(path)
    assert "Interlaced" in plate.odd[0]
    shown, early = plate.gray(8)[4:-4].astype(int), cv2.cvtColor(moving(COUNT, 6.0)[7], cv2.COLOR_RGB2GRAY)[4:-4]
    assert np.abs(shown - early).mean() < 3 < np.abs(cv2.cvtColor(woven[7], cv2.COLOR_RGB2GRAY)[4:-4] - shown).mean()


def test_high_range_video_is_shown_between_black_and_white(tmp_path):
    from av.video.reformatter import ColorTrc

    for trc, name in ((ColorTrc.SMPTE2084, "pq"), (ColorTrc.ARIB_STD_B67, "hlg")):

        def mark(frame, trc=trc):
            frame.color_trc = int(trc)

        path = tmp_path / f"{name}.mkv"
        with av.open(str(path), "w") as out:
            stream = out.add_stream("ffv1", rate=24)
            stream.height, stream.width, stream.pix_fmt = *SIZE, "yuv444p10le"
            stream.codec_context.color_trc = int(trc)
            for k in range(3):
                ramp = np.linspace(0, 65535, SIZE[1]).astype(np.uint16)[None, :, None].repeat(SIZE[0], 0).repeat(3, 2)
                frame = av.VideoFrame.from_ndarray(ramp, format="rgb48le").reformat(format="yuv444p10le")
                frame.pts = k
                mark(frame)
                out.mux(stream.encode(frame))
            out.mux(stream.encode())
        plate = open_plate(path)
        row = plate.read(2)[40, :, 1].astype(int)
        assert plate.source.encoding == name and (np.diff(row) >= 0).all() and row[0] == 0 and row[-1] >= 250
        stored = open_plate(path, None, "display").read(2)[40, :, 1].astype(int)
        assert np.abs(stored - np.linspace(0, 255, SIZE[1])).max() < 4 < np.abs(row - stored).max()


def write_still(path, specs, arrays):
    """Write the parts of a still."""
    out = oiio.ImageOutput.create(str(path))
    assert out.open(str(path), tuple(specs)) if len(specs) > 1 else out.open(str(path), specs[0])
    for k, (spec, pixels) in enumerate(zip(specs, arrays)):
        assert not k or out.open(str(path), spec, "AppendSubimage")
        assert out.write_image(np.ascontiguousarray(pixels))
    out.close()
    return path


def spec_of(pixels, kind=oiio.HALF, **attributes):
    spec = oiio.ImageSpec(pixels.shape[1], pixels.shape[0], pixels.shape[2], kind)
    for name, value in attributes.items():
        spec.attribute(name.replace("__", ":"), value)
    return spec


LIGHT = np.random.default_rng(0).random((40, 60, 3), dtype=np.float32)


def test_the_display_window_is_the_picture(tmp_path):
    small, large = spec_of(LIGHT), spec_of(LIGHT)
    small.x, small.y, small.full_width, small.full_height = 10, 5, 100, 50
    path = write_still(tmp_path / "small.exr", [small], [LIGHT])
    raw = read_raw(path)
    assert raw.shape == (50, 100, 3) and np.abs(raw[5:45, 10:70] - LIGHT).max() < 1e-3 and raw[:5].max() == 0
    assert "the rest of it is black" in picture_facts(path).odd[0]
    large.x, large.y, large.full_width, large.full_height = -10, -5, 40, 30
    path = write_still(tmp_path / "large.exr", [large], [LIGHT])
    assert np.abs(read_raw(path) - LIGHT[5:35, 10:50]).max() < 1e-3
    assert "left out" in picture_facts(path).odd[0]


def test_the_picture_is_found_among_parts_and_layers(tmp_path):
    depth = spec_of(LIGHT[..., :1], oiio.FLOAT, oiio__subimagename="depth")
    depth.channelnames = ("Z",)
    beauty = spec_of(np.zeros((40, 60, 4)), oiio__subimagename="beauty")
    both = np.dstack([LIGHT, np.full((40, 60), 0.5, np.float32)])
    path = write_still(tmp_path / "parts.exr", [depth, beauty], [LIGHT[..., :1], both])
    assert np.abs(read_raw(path)[..., :3] - LIGHT).max() < 1e-3 and "beauty" in picture_facts(path).odd[0]
    layers = spec_of(np.zeros((40, 60, 6)))
    layers.channelnames = ("aim.X", "aim.Y", "aim.Z", "main.R", "main.G", "main.B")
    path = write_still(tmp_path / "layers.exr", [layers], [np.dstack([-LIGHT, LIGHT])])
    assert np.abs(read_raw(path, 3) - LIGHT).max() < 1e-3
    clear = spec_of(both, oiio.UINT8)
    path = write_still(tmp_path / "clear.png", [clear], [both])
    assert abs(int(read_picture(path)[20, 30, 0]) - round(255 * float(min(1, LIGHT[20, 30, 0] / 0.5)))) <= 2


def test_metadata_states_facts_and_turns_a_still(tmp_path):
    spec = spec_of(LIGHT, FramesPerSecond=24.0, Exif__FocalLength=32.0)
    spec.attribute("FramesPerSecond", oiio.TypeDesc("rational"), (24000, 1001))
    facts = picture_facts(write_still(tmp_path / "a.exr", [spec], [LIGHT]))
    assert (facts.fps, facts.focal_mm, facts.encoding) == (Fraction(24000, 1001), 32.0, "linear")
    spec = spec_of(LIGHT, oiio.UINT8, Orientation=6, Exif__FocalPlaneXResolution=60 / 36.0 * 25.4)
    path = write_still(tmp_path / "turned.jpg", [spec], [(255 * LIGHT).astype(np.uint8)])
    assert read_picture(path).shape == (60, 40, 3) and picture_facts(path).sensor_width_mm == pytest.approx(24, abs=0.1)


def test_log_and_linear_stills_are_shown_alike(tmp_path):
    grey = np.full((8, 12, 3), 0.18, np.float32)
    linear = int(read_picture(write_still(tmp_path / "a.exr", [spec_of(grey)], [grey]))[4, 4, 0])
    black = 10 ** ((95 - 685) * 0.002 / 0.6)
    code = (685 + np.log10(0.18 * (1 - black) + black) * 0.6 / 0.002) / 1023
    spec = spec_of(grey, oiio.UINT16, oiio__BitsPerSample=10, dpx__Transfer="Logarithmic")
    path = write_still(tmp_path / "a.dpx", [spec], [np.full((8, 12, 3), code, np.float32)])
    assert abs(int(read_picture(path)[4, 4, 0]) - linear) <= 1
    assert abs(int(read_picture(path, "display")[4, 4, 0]) - round(255 * code)) <= 1
    with pytest.raises(PlateError, match="no encoding “vivid”"):
        open_plate(tmp_path, None, "vivid")


def test_damaged_stills_say_so_and_decoders_stay_silent(tmp_path, capfd):
    good = write_still(tmp_path / "a.png", [spec_of(LIGHT, oiio.UINT8)], [LIGHT]).read_bytes()
    changed = bytearray(good)
    changed[len(good) // 2] ^= 255
    for name, data in (("changed.png", changed), ("cut.png", good[:-30]), ("cut.jpg", None)):
        if data is None:
            jpeg = write_still(tmp_path / name, [spec_of(LIGHT, oiio.UINT8)], [LIGHT]).read_bytes()
            data = jpeg[: len(jpeg) // 2]
        (tmp_path / name).write_bytes(data)
        with pytest.raises(PlateError, match=name) as refusal:
            read_picture(tmp_path / name)
        assert str(tmp_path) not in str(refusal.value)
    open_plate(write_video(tmp_path / "a.mp4", "libx264", "yuv420p"))
    assert capfd.readouterr() == ("", "")


def told(frames) -> list[str]:
    watch = CadenceWatch()
    for picture in frames:
        watch.see(cv2.cvtColor(picture, cv2.COLOR_RGB2GRAY))
    return cadence_words(watch.told(), np.arange(1001, 1001 + len(frames)))


def test_doubled_and_dropped_frames_are_noticed():
    assert told(FRAMES) == []
    assert told([*FRAMES[:8], FRAMES[7], *FRAMES[8:]]) == ["Frame 1009 repeats the one before."]
    assert told([*FRAMES[:8], *FRAMES[9:]]) == ["A frame seems to be lacking before 1009."]
    slow = [0, 0.02, 0.1, 0.3, 0.8, *np.arange(2, 30, 3)]
    assert told([moving(1, 0)[0] if not s else moving(2, s)[1] for s in slow]) == []
    assert told(12 * [FRAMES[0]]) == []


def test_files_that_nobody_vetted_break_nothing(tmp_path):
    done = hostile.read_all(tmp_path, hostile.COUNT)
    assert done.counts["broken"] == done.counts["lost"] == 0, done.first
    assert done.counts["taken"] + done.counts["refused"] == hostile.COUNT and done.counts["refused"] > 50
    assert done.memory < hostile.MOST_BYTES
