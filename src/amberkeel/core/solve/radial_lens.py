"""The camera inside the solver: focal length, three radial coefficients, optical centre and pixel aspect, the shutter's
readout, and the arm from the point about which the camera turns to its entrance pupil.

The kernels read a lens as a flat row (11,). Only this module knows the order of that row and how a
value of it is stepped; everywhere else a value of the lens has a name.
"""

from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.lens import Lens

LENS_NAMES = ("focal", "k1", "k2", "k3", "cx", "cy")
"""Values that an adjustment may estimate, in the order of a row and of a row's derivatives; the focal length steps by
its logarithm.
"""

RADIAL_NAMES = LENS_NAMES[1:4]

READOUT_NAME, ARM_NAMES = "readout", ("arm_x", "arm_y", "arm_z")

ROW_NAMES = (*LENS_NAMES, READOUT_NAME, *ARM_NAMES)
"""All values that an adjustment may estimate, lens and camera body, in the order of a row and of its derivatives."""

ROW_SIZE = 11
FOCAL, K1, K2, K3, CX, CY, READOUT, ARM_X, ARM_Y, ARM_Z, ASPECT = range(ROW_SIZE)
"""Columns of a lens row."""

MOST_LOG_FOCAL, MOST_RADIAL, MOST_READOUT = 0.5, 0.3, 0.3
"""Longest step of the logarithm of the focal length, of a radial coefficient and of the readout in one iteration."""


@dataclass(frozen=True)
class RadialLens:
    """A lens with radial distortion (Brown 1966) and pixels of any aspect.

    Attributes
    ----------
    focal : focal length along x, pixels. aspect : width of a pixel over its height, so ``fy = aspect * fx``.
    cx, cy : optical centre, pixels from the top left corner. k1, k2, k3 : radial coefficients, no unit.
    readout : share of the frame interval that passes between the first and the last row.
    arm_x, arm_y, arm_z : the entrance pupil in the camera's frame, from the point about which it turns, in the solve's
        unit; 0 where a camera's position is that of its entrance pupil.
    """

    focal: float
    cx: float
    cy: float
    k1: float = 0.0
    k2: float = 0.0
    k3: float = 0.0
    aspect: float = 1.0
    readout: float = 0.0
    arm_x: float = 0.0
    arm_y: float = 0.0
    arm_z: float = 0.0

    @property
    def row(self) -> np.ndarray:
        """The lens as the kernels read it, (11,)."""
        return np.array([*(getattr(self, name) for name in ROW_NAMES), self.aspect])

    @property
    def arm(self) -> np.ndarray:
        """The entrance pupil (3,) in the camera's frame, from the point that a camera's position means."""
        return np.array([self.arm_x, self.arm_y, self.arm_z])

    @property
    def radial(self) -> tuple[float, float, float]:
        """k1, k2 and k3."""
        return self.k1, self.k2, self.k3

    def value(self, name: str) -> float:
        """Return the value called `name`, one of `ROW_NAMES`."""
        return float(getattr(self, name))

    def parameter(self, name: str) -> float:
        """Return what an adjustment steps: the logarithm of the focal length, any other value as it is."""
        return float(np.log(self.focal)) if name == "focal" else self.value(name)

    def with_value(self, name: str, value: float) -> "RadialLens":
        """Return the lens with one value changed."""
        return replace(self, **{name: float(value)})

    def stepped(self, name: str, step: float) -> "RadialLens":
        """Return the lens after a step of one parameter, which is cut to a length that keeps the lens sensible."""
        if name == "focal":
            return self.with_value(name, self.focal * np.exp(np.clip(step, -MOST_LOG_FOCAL, MOST_LOG_FOCAL)))
        most = MOST_RADIAL if name in RADIAL_NAMES else MOST_READOUT if name == READOUT_NAME else np.inf
        return self.with_value(name, self.value(name) + np.clip(step, -most, most))

    def refocused(self, focal: float) -> "RadialLens":
        """Return the lens with another focal length and the same map of the picture.

        A coefficient of degree n in the radius goes with the n-th power of the focal length.
        """
        gain = focal / self.focal
        return replace(self, focal=focal, k1=self.k1 * gain**2, k2=self.k2 * gain**4, k3=self.k3 * gain**6)

    def as_lens(self, width: int, height: int) -> Lens:
        """Return the lens of a picture of `width` x `height` pixels."""
        focal = (self.focal, self.focal * self.aspect)
        return Lens(width, height, focal, (self.cx, self.cy), self.radial, (0.0, 0.0), self.aspect)


def pinhole_rows(count: int) -> np.ndarray:
    """Return lens rows (count, 11) under which pixels are normalised coordinates."""
    return np.tile(RadialLens(1.0, 0.0, 0.0).row, (count, 1))
