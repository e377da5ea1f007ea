"""What a set world tells of the camera: height over the ground, speed, travel."""

from dataclasses import dataclass

import numpy as np

from amberkeel.core.camera import CameraPath


@dataclass(frozen=True)
class CameraFacts:
    """Facts of a camera in a world whose ground is Y = 0: height (least, middle, most), speed (middle, most) in units a
    second, the way it travels, and how far its end is from its start.
    """

    height: tuple[float, float, float]
    speed: tuple[float, float]
    travel: float
    apart: float


def camera_facts(path: CameraPath, fps: float) -> CameraFacts:
    """Return the facts of a camera path in the world; `fps` are frames a second."""
    height = path.positions[:, 1]
    steps = np.linalg.norm(np.diff(path.positions, axis=0), axis=1)
    seconds = np.diff(path.frames) / fps
    speed = steps / seconds if len(steps) else np.zeros(1)
    return CameraFacts(
        (float(height.min()), float(np.median(height)), float(height.max())),
        (float(np.median(speed)), float(speed.max())),
        float(steps.sum()),
        float(np.linalg.norm(path.positions[-1] - path.positions[0])),
    )
