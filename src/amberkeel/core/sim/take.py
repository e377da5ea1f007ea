"""What is filmed of a set: one take of the demo production, at whatever picture size it is asked for."""

from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.lens import Lens, focal_px_from_mm
from amberkeel.core.sim.motion import Jolt, Move, Wander
from amberkeel.core.sim.render import Shot
from amberkeel.core.sim.scene import Scene


@dataclass(frozen=True)
class Take:
    """A camera take of a set.

    Attributes
    ----------
    name : of the shot. seed : of its grain and samples. scene : makes the set, baked when a picture is asked for.
    first, count : its first frame's number, and its frames.
    keys : (K,) frames from the first one at which the camera's path is given. eyes, targets : (K, 3) where the camera
        stands and what it looks at then, metres. wander : of the hand, or None. jolts : blows to the camera.
    focal_mm, sensor_width_mm : of the lens and the camera. radial : (k1, k2, k3).
    grain : one sigma, code values. shutter, exposure, readout : as for `Shot`.
    """

    name: str
    seed: int
    scene: Callable[[], Scene]
    first: int
    count: int
    keys: tuple[float, ...]
    eyes: list[list[float]]
    targets: list[list[float]]
    wander: Wander | None
    focal_mm: float
    sensor_width_mm: float
    radial: tuple[float, float, float]
    jolts: tuple[Jolt, ...] = ()
    grain: float = 1.2
    shutter: float = 0.5
    exposure: Callable[[float], float] = lambda t: 1.0
    readout: float = 0.0

    def __call__(
        self,
        width: int = 960,
        height: int = 540,
        frames: int | None = None,
        samples: int = 9,
        grain: float | None = None,
    ) -> Shot:
        """Return the take at a picture size; fewer `frames` keep its beginning.

        Parameters
        ----------
        width, height : of the picture, pixels. frames : rendered, from the first; None for all. samples : of a pixel.
        grain : one sigma, code values; None for the take's own.
        """
        lens = Lens.centred(width, height, focal_px_from_mm(self.focal_mm, self.sensor_width_mm, width))
        keys, eyes, targets = self.first + np.array(self.keys), np.array(self.eyes), np.array(self.targets)
        return Shot(
            self.name,
            self.scene(),
            replace(lens, radial=self.radial),
            Move(keys, eyes, targets, self.wander, self.jolts),
            np.arange(self.first, self.first + (self.count if frames is None else frames)),
            24.0,
            self.sensor_width_mm,
            self.shutter,
            samples,
            self.grain if grain is None else grain,
            self.exposure,
            self.seed,
            self.readout,
        )
