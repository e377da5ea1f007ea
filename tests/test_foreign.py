"""Files that others made are read by a child with limits: what it does stays there, and what comes back is plain."""

import os
import threading
import time
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from hypothesis.extra import numpy as arrays

from amberkeel.core.errors import HandoffError, KeelError, PlateError, WorldError
from amberkeel.core.foreign import Limits, door
from amberkeel.core.foreign.door import guarded
from amberkeel.core.foreign.plain import NotPlain, packed, unpacked
from amberkeel.core.handoff.camera_files import Picture, read_camera
from amberkeel.core.handoff.camera_paths import read_camera_path
from amberkeel.core.lens import Lens
from amberkeel.core.plate.links import check_links
from amberkeel.core.plate.look import picture_size
from benchmarks.hostile_scenes import outcomes

PLAIN = st.recursive(
    st.none() | st.booleans() | st.integers() | st.floats(allow_nan=False) | st.text() | st.binary()
    | st.fractions().map(lambda f: Fraction(f)),
    lambda within: st.lists(within) | st.tuples(within, within) | st.dictionaries(st.text() | st.integers(), within),
    max_leaves=20,
)  # fmt: skip


@given(PLAIN)
@settings(deadline=None, max_examples=150)
def test_plain_data_comes_back_as_it_went(value):
    assert unpacked(packed(value)) == value


@given(arrays.arrays(st.sampled_from([np.float32, np.float64, np.uint8, np.int64, np.bool_]), arrays.array_shapes()))
@settings(deadline=None, max_examples=50)
def test_arrays_come_back_as_they_went(value):
    found = unpacked(packed({"a": value}))["a"]
    assert found.dtype == value.dtype and found.shape == value.shape and found.tobytes() == value.tobytes()


def test_only_this_programs_records_are_made(tmp_path):
    lens = Lens.centred(640, 360, 500.0)
    assert unpacked(packed([lens, Path("a/b")])) == [lens, Path("a/b")]

    @dataclass
    class Own:
        x: int

    for bad in (Own(1), object(), np.array([object()])):
        with pytest.raises(NotPlain):
            packed(bad)
    sent = packed(lens).replace(b"amberkeel.core.lens", b"subprocess.core.len")
    for bad in (b"", b"\x05", packed(lens)[:-9], sent, packed({"is": 1})[:-1]):
        with pytest.raises(NotPlain):
            unpacked(bad)


@given(st.binary(max_size=200))
@settings(deadline=None, max_examples=100)
def test_bytes_of_others_are_refused(data):
    with pytest.raises((NotPlain, ValueError)):
        unpacked(data)
        raise NotPlain


def refused(reader: str, *given, seconds: float = 5.0, memory: int = 1 << 30) -> KeelError:
    """Return how a child refuses what a reader of the tests' helper does."""
    own = door._Door(f"amberkeel.core.foreign.{reader}", "This file", WorldError, Limits(memory, seconds), "Help.")
    with pytest.raises(KeelError) as error:
        own.ask(given, {})
    return error.value


def test_what_a_file_does_to_its_reader_stays_with_the_child(tmp_path):
    began = time.monotonic()
    assert "too long" in str(refused("rehearsal:forever", seconds=1.0)) and time.monotonic() - began < 30.0
    assert "memory" in str(refused("rehearsal:hungry", 2 << 30))
    assert "cannot be read" in str(refused("rehearsal:crashing"))
    assert "cannot be read" in str(refused("rehearsal:failing"))
    assert "nested too deep" in str(refused("rehearsal:falling"))
    assert isinstance(refused("rehearsal:refusing"), PlateError)
    # After all that the next file is read as ever.
    assert guarded("It", WorldError)(len).__wrapped__ is len


@pytest.mark.skipif(os.uname().sysname != "Linux", reason="the disk is closed by the kernel of Linux")
def test_a_reader_sees_nothing_but_its_file(tmp_path):
    beside, own = tmp_path / "beside.txt", tmp_path / "own" / "own.txt"
    own.parent.mkdir()
    beside.write_text("secret")
    own.write_text("own")
    look = door._Door("amberkeel.core.foreign.rehearsal:looking", "It", WorldError, Limits(), "")
    assert look.ask((own, str(beside)), {}) == ["own", "PermissionError", "PermissionError"]


def test_many_threads_read_at_once():
    found = []
    threads = [
        threading.Thread(target=lambda k=k: found.append(read_camera_path("a.csv", table(k)).frames[0]))
        for k in range(8)
    ]
    for one in threads:
        one.start()
    for one in threads:
        one.join()
    assert sorted(found) == list(range(8))


def table(first: int) -> bytes:
    return ("frame,x,y,z,pan,tilt,roll\n" + "".join(f"{first + k},0,0,{k},0,0,0\n" for k in range(3))).encode()


def test_hostile_files_of_every_kind_are_taken_or_refused(tmp_path):
    told = list(outcomes(tmp_path, 8))
    broken = [(kind, said, data[:120]) for kind, said, data in told if said.startswith("broken")]
    assert not broken and len({kind for kind, *_ in told}) == 5


def test_a_picture_of_zeros_reaches_no_decoder(tmp_path):
    lie = tmp_path / "big.0001.png"
    with lie.open("wb") as file:
        file.truncate(300 << 20)
    began = time.process_time()
    with pytest.raises(PlateError, match="as a picture"):
        picture_size(lie)
    assert time.process_time() - began < 1.0


NESTED = """#usda 1.0
(
    metersPerUnit = 0.01
    upAxis = "Y"
)
def Xform "rig" {
    double3 xformOp:translate = (100, 0, 0)
    float xformOp:rotateY = 90
    double3 xformOp:scale = (2, 2, 2)
    double3 xformOp:translate:pivot = (0, 0, 10)
    uniform token[] xformOpOrder = ["xformOp:translate", "xformOp:translate:pivot", "xformOp:rotateY",
        "!invert!xformOp:translate:pivot", "xformOp:scale"]
    def Xform "plain" {
        def Camera "cam" {
            float focalLength = 35
            float horizontalAperture = 24
            float verticalAperture = 13.5
            double3 xformOp:translate.timeSamples = { 1: (0, 0, 0), 2: (0, 0, -10), 3: (0, 0, -20) }
            uniform token[] xformOpOrder = ["xformOp:translate"]
        }
    }
    def Xform "apart" {
        uniform token[] xformOpOrder = ["!resetXformStack!"]
        def Xform "empty" {}
    }
}
"""


def test_a_camera_in_a_group_is_where_its_group_puts_it(tmp_path):
    path = tmp_path / "nested.usda"
    path.write_text(NESTED)
    found = read_camera(path, Picture(640, 360, 24.0), 0, "cam")
    # The pivot turns by 90° about Y: (0, 0, -10) less it goes along -X, and comes back along +Z; then the rig's place.
    here = [np.array([100.0 + 2.0 * (0.0 - k * 10.0) - 10.0, 0.0, 10.0]) * 0.01 for k in range(3)]
    assert found.frames.tolist() == [1, 2, 3] and np.allclose(found.positions, here)
    assert np.allclose(found.world_from_camera[0].T @ found.world_from_camera[0], np.eye(3))
    same = read_camera_path("nested.usda", NESTED.encode())
    assert same.frames.tolist() == [1, 2, 3] and np.allclose(same.positions, here)
    assert np.allclose(same.rotations, found.world_from_camera)


def test_usd_that_takes_other_files_is_refused():
    for arc in ("subLayers = [@other.usda@]",):
        with pytest.raises(HandoffError, match=r"other files: other.usda"):
            read_camera_path("a.usda", f"#usda 1.0\n(\n{arc}\n)\n".encode())
    with pytest.raises(HandoffError, match="other files"):
        read_camera_path("a.usda", b'#usda 1.0\ndef Camera "c" (references = @/etc/passwd@) {}\n')


def test_links_lead_nowhere_else(tmp_path):
    root, out = tmp_path / "root", tmp_path / "out"
    for folder in (root / "plate", out):
        folder.mkdir(parents=True)
    (out / "a.0001.png").write_bytes(b"x")
    assert check_links(root / "plate", [root]) == (root / "plate").resolve()
    (root / "plate" / "a.0001.png").symlink_to(out / "a.0001.png")
    for where in (root / "plate", root / "plate" / "a.####.png"):
        with pytest.raises(PlateError, match="leads out"):
            check_links(where, [root])
    assert check_links(root / "plate", [root, tmp_path])
    with pytest.raises(PlateError, match="leads out"):
        check_links(root / "plate", [])
