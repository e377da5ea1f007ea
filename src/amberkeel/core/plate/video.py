"""Read frames of a video in any order, cheapest in rising order (PyAV)."""

from fractions import Fraction
from pathlib import Path

import av
import numpy as np

from amberkeel.core.errors import PlateError


class VideoReader:
    """Frames of a video, numbered from 1.

    Raises PlateError when the file is no video, or ends before the number of frames it declares.
    """

    def __init__(self, path: Path):
        self.path = Path(path)
        self._container: av.container.InputContainer | None = None
        stream = self._open()
        self.width, self.height = stream.codec_context.width, stream.codec_context.height
        self.fps = Fraction(stream.average_rate or stream.guessed_rate or 24)
        aspect = stream.sample_aspect_ratio
        self.pixel_aspect = float(aspect) if aspect else 1.0
        self.count = self._count(stream.frames)

    def _open(self) -> av.VideoStream:
        self.close()
        try:
            container = av.open(str(self.path))
            stream = container.streams.video[0]
        except (av.FFmpegError, IndexError, OSError) as error:
            raise PlateError(f"{self.path.name} cannot be read as a video.", "Is the file complete?") from error
        stream.thread_type = "AUTO"
        self._container, self._frames, self._next = container, container.decode(stream), 1
        return stream

    def _count(self, declared: int) -> int:
        """Count the frames that can be decoded; a video that stops early is refused."""
        decoded, failure = 0, ""
        try:
            for _ in self._frames:
                decoded += 1
        except av.FFmpegError as error:
            failure = str(error)
        self._open()
        if failure or decoded < declared:
            of = f" of {declared}" if declared else ""
            raise PlateError(
                f"{self.path.name} is cut off: {decoded}{of} frames can be read.", "Copy or export it again."
            )
        if not decoded:
            raise PlateError(f"{self.path.name} holds no frames.", "Export it again.")
        return decoded

    def read(self, frame: int) -> np.ndarray:
        """Return frame number `frame` (from 1) as (H, W, 3) uint8 sRGB."""
        if frame < self._next:
            self._open()
        for picture in self._frames:
            self._next += 1
            if self._next == frame + 1:
                return picture.to_ndarray(format="rgb24")
        raise PlateError(f"{self.path.name} has no frame {frame}.", f"It has {self.count} frames.")

    def close(self) -> None:
        """Close the file."""
        if self._container is not None:
            self._container.close()
