"""Files that nobody vetted: cut, changed and lying ones, opened as plates, mattes and tables. Each is taken or refused
in words; no process is lost and memory stays bounded.
"""

import struct
import subprocess
import sys
import tempfile
import time
import zlib
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from fractions import Fraction
from pathlib import Path

import av
import numpy as np
import OpenImageIO as oiio

from amberkeel.core.errors import KeelError
from amberkeel.core.handoff.track_table import read_tracks_csv
from amberkeel.core.pictures.facts import picture_facts
from amberkeel.core.pictures.read import read_matte, read_picture
from amberkeel.core.plate.plate import Plate, open_plate
from benchmarks.hostile_scenes import outcomes
from benchmarks.peak import peak_bytes

COUNT = 200

SCENES = 200
"""Cameras, meshes, tables and documents of each kind."""

MOST_BYTES = 1.5 * 1024**3
"""Memory that reading hostile files may take, the libraries included."""

_SIZE = (48, 64)
_PLATE = Plate("hostile", np.arange(1, 41), 64, 48, None)


@dataclass(frozen=True)
class Outcome:
    """How many files were taken, refused, or broke something, what broke first, and the largest memory in bytes."""

    counts: Counter
    first: str
    memory: int


def run() -> None:
    """Print what became of 200 hostile files."""
    with tempfile.TemporaryDirectory() as folder:
        done = read_all(Path(folder), COUNT)
    print(
        f"\n{sum(done.counts.values())} hostile files: {dict(done.counts)} (target: none broken), memory "
        f"{done.memory / 1024**3:.2f} GiB (target 1.50){'; first: ' + done.first if done.first else ''}"
    )
    _scenes()


def _scenes() -> None:
    """Print what became of hostile cameras, meshes, tables and documents, and how long the slowest took."""
    counts: Counter = Counter()
    first, slowest, began = "", 0.0, time.monotonic()
    with tempfile.TemporaryDirectory() as folder:
        for kind, said, _ in outcomes(Path(folder), SCENES):
            slowest, began = max(slowest, time.monotonic() - began), time.monotonic()
            counts[said.split(":")[0]] += 1
            first = first or (f"{kind} {said}" if said.startswith("broken") else "")
    print(
        f"{sum(counts.values())} hostile scenes and tables: {dict(counts)} (target: none broken), the slowest "
        f"{slowest:.1f} s (target 20){'; first: ' + first if first else ''}"
    )


def read_all(folder: Path, count: int) -> Outcome:
    """Write hostile files into a folder and read each in a process that reads nothing else afterwards if it dies.

    Parameters
    ----------
    folder : where they are written. count : how many, at the most.
    """
    names = [path.name for path in hostile(folder, count)]
    counts: Counter = Counter()
    first, memory = "", 0
    while names:
        child = subprocess.run(
            [sys.executable, "-m", "benchmarks.hostile", str(folder), *names], capture_output=True, text=True
        )
        lines = [line.split("\t") for line in child.stdout.splitlines() if "\t" in line]
        counts.update(word for word, *_ in lines)
        first = first or next((" ".join(line) for line in lines if line[0] == "broken"), "")
        memory = max([memory, *(int(line[2]) for line in lines)])
        names = names[len(lines) :]
        if names:
            counts["lost"] += 1
            first = first or f"{names[0]} ended the process ({child.returncode}) {child.stderr[-300:]}"
            names = names[1:]
    return Outcome(counts, first, memory)


def read_one(path: Path) -> str:
    """Return what became of a file: taken, refused, or broken, with the words."""
    try:
        if path.suffix == ".csv":
            read_tracks_csv(path.read_text(errors="replace"), _PLATE)
        elif path.suffix in (".mov", ".mp4", ".avi", ".mkv"):
            plate = open_plate(path)
            plate.read(int(plate.frames[-1]))
        else:
            read_picture(path)
            read_matte(path)
            picture_facts(path)
    except KeelError as refused:
        return f"refused\t{' '.join(str(refused).split())[:100]}"
    except Exception as error:
        return f"broken\t{path.name} {type(error).__name__} {' '.join(str(error).split())[:100]}"
    return f"taken\t{path.name}"


def hostile(folder: Path, count: int, seed: int = 5) -> list[Path]:
    """Write up to `count` files; return them."""
    chance, made = np.random.default_rng(seed), []
    lies, whole = list(_lying()), list(_whole(folder))
    for name, data in lies:
        made.append(folder / name)
        made[-1].write_bytes(data)
    for k in range(count - len(lies)):
        name, data = whole[k % len(whole)]
        path = folder / f"h{k:03d}_{name}"
        path.write_bytes(_spoilt(data, chance))
        made.append(path)
    return made[:count]


def _spoilt(data: bytes, chance: np.random.Generator) -> bytes:
    """Return data cut off, with bytes changed, or with a piece repeated or set to all ones."""
    out, way = bytearray(data), chance.integers(5)
    if way == 0:
        return bytes(out[: int(chance.integers(1, len(out)))])
    if way == 1:
        at = int(chance.integers(0, len(out)))
        return bytes(out[:at] + out[: int(chance.integers(1, 400))] + out[at:])
    early = len(out) if way == 2 else min(len(out), 400)
    for _ in range(int(chance.integers(1, 20))):
        out[int(chance.integers(0, early))] = int(chance.integers(0, 256))
    if way == 4:
        at = int(chance.integers(0, max(1, len(out) - 8)))
        out[at : at + 4] = b"\xff\xff\xff\xff"
    return bytes(out)


def _whole(folder: Path) -> Iterator[tuple[str, bytes]]:
    """Yield small sound files of each kind, to be spoilt."""
    pixels = np.random.default_rng(0).random((*_SIZE, 3), dtype=np.float32)
    for name, kind, more in (
        ("a.png", oiio.UINT8, {}), ("b.png", oiio.UINT16, {}), ("a.jpg", oiio.UINT8, {}), ("a.tif", oiio.UINT16, {}),
        ("b.tif", oiio.FLOAT, {"compression": "lzw"}), ("a.exr", oiio.HALF, {"compression": "zip"}),
        ("b.exr", oiio.HALF, {"compression": "piz"}), ("c.exr", oiio.FLOAT, {"compression": "dwaa"}),
        ("a.dpx", oiio.UINT16, {"oiio:BitsPerSample": 10}),
    ):  # fmt: skip
        spec = oiio.ImageSpec(_SIZE[1], _SIZE[0], 3, kind)
        for key, value in more.items():
            spec.attribute(key, value)
        out = oiio.ImageOutput.create(str(folder / name))
        out.open(str(folder / name), spec)
        out.write_image(pixels)
        out.close()
        yield name, (folder / name).read_bytes()
    for name, codec, form in (
        ("a.mp4", "libx264", "yuv420p"), ("a.mkv", "ffv1", "yuv444p"), ("a.avi", "mjpeg", "yuvj420p"),
        ("a.mov", "prores_ks", "yuv422p10le"), ("b.mp4", "mpeg4", "yuv420p"),
    ):  # fmt: skip
        with av.open(str(folder / name), "w") as video:
            stream = video.add_stream(codec, rate=Fraction(24))
            stream.height, stream.width, stream.pix_fmt = *_SIZE, form
            for k in range(8):
                frame = av.VideoFrame.from_ndarray((255 * np.roll(pixels, k, 1)).astype(np.uint8), format="rgb24")
                video.mux(stream.encode(frame))
            video.mux(stream.encode())
        yield name, (folder / name).read_bytes()
    rows = "\n".join(f"a,{frame},{frame}.5,7,0.1,active" for frame in range(1, 40))
    yield "t.csv", f"name,frame,x,y,sigma,state\n{rows}\n".encode()


def _lying() -> Iterator[tuple[str, bytes]]:
    """Yield files that claim to be more than they are."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = b"\x89PNG\r\n\x1a\n"
    for name, wide, high in (("vast.png", 60_000, 60_000), ("none.png", 0, 0), ("wide.png", 2**31 - 1, 1)):
        about = chunk(b"IHDR", struct.pack(">IIBBBBB", wide, high, 8, 2, 0, 0, 0))
        yield name, head + about + chunk(b"IDAT", zlib.compress(b"\0" * 1000)) + chunk(b"IEND", b"")
    bomb = zlib.compress(b"\0" * 60_000_000, 9)
    about = chunk(b"IHDR", struct.pack(">IIBBBBB", 16, 16, 8, 2, 0, 0, 0))
    yield "bomb.png", head + about + chunk(b"IDAT", bomb) + chunk(b"IEND", b"")
    yield "empty.png", b""
    yield "text.exr", b"not a picture\n" * 50
    yield "short.dpx", b"SDPX" + b"\xff" * 60
    yield "text.mov", b"<html>" * 100
    yield "folders.tif", b"II*\0\x08\0\0\0\xff\xff" + b"\xff" * 200
    yield "long.csv", b"name,frame,x,y\n" + b"a," * 50_000
    yield "zero.csv", b"name,frame,x,y\r\ra\0,1,nan,inf\r"
    yield "huge.csv", b"name,frame,x,y\n" + f"a,{10**400},1e999,-1e999\n".encode()


def main() -> None:
    """Read the files named on the command line, and say of each what became of it and how much memory was taken."""
    folder = Path(sys.argv[1])
    for name in sys.argv[2:]:
        word = read_one(folder / name)
        print(f"{word}\t{peak_bytes()}", flush=True)


if __name__ == "__main__":
    main()
