"""Pictures as a movie for review: H.264, by PyAV."""

from collections.abc import Iterable
from fractions import Fraction
from pathlib import Path

import av
import numpy as np


def write_film(
    where: Path, pictures: Iterable[np.ndarray], size: tuple[int, int], fps: Fraction, quality: int, timecode: str = ""
) -> None:
    """Write pictures as a movie.

    Parameters
    ----------
    where : the file. pictures : (H, W, 3) uint8 each. size : (W, H), both even. fps : frames a second. quality : the
        constant rate factor, less for finer. timecode : of the first picture, empty for none.
    """
    with av.open(str(where), "w") as out:
        stream = out.add_stream("libx264", rate=fps)
        stream.width, stream.height, stream.pix_fmt = *size, "yuv420p"
        stream.options = {"crf": str(quality), "preset": "veryfast"}
        if timecode:
            stream.metadata["timecode"] = timecode
        for picture in pictures:
            frame = av.VideoFrame.from_ndarray(np.ascontiguousarray(picture, np.uint8), format="rgb24")
            for packet in stream.encode(frame):
                out.mux(packet)
        for packet in stream.encode():
            out.mux(packet)
