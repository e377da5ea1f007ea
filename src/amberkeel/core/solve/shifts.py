"""How a solved camera moves when part of its tracks is left out: the samples of both jackknives (see `jackknife`)."""

from dataclasses import dataclass, replace

import numpy as np
from scipy.spatial.transform import Rotation

from amberkeel.core.camera import CameraPath
from amberkeel.core.lens import Lens
from amberkeel.core.solve.radial_lens import RADIAL_NAMES


@dataclass(frozen=True)
class Shifts:
    """Shifts of a camera path, scaled so that the squares of each way of leaving out add up to a variance.

    Attributes
    ----------
    turns : (K, F, 3) radians, in the camera's own axes. positions : (K, F, 3) in the path's world.
    names : values of the lens, and lens : (K, L) their shifts, the focal length's relative.
    cells : how many of the K leave out a cell of the picture; the others leave out a stretch of frames.
    """

    turns: np.ndarray
    positions: np.ndarray
    names: tuple[str, ...]
    lens: np.ndarray
    cells: int

    def __len__(self) -> int:
        return len(self.turns)

    def moved(self, scale: float, rotation: np.ndarray) -> "Shifts":
        """Return the shifts in another world: a position there is ``scale * rotation @ x + ...``.

        Parameters
        ----------
        scale : new units a unit. rotation : (3, 3), new_from_old.
        """
        return replace(self, positions=scale * self.positions @ rotation.T)

    def camera(self, path: CameraPath, k: int) -> CameraPath:
        """Return the path as it would be in sample `k`."""
        turned = path.world_from_camera @ Rotation.from_rotvec(self.turns[k]).as_matrix()
        moved = path.positions + self.positions[k]
        return replace(path, positions=moved, world_from_camera=turned, lens=self._lens(path.lens, k))

    def _lens(self, lens: Lens, k: int) -> Lens:
        own = dict(zip(self.names, self.lens[k]))
        k1, k2, k3 = (c + float(own.get(name, 0.0)) for c, name in zip(lens.radial, RADIAL_NAMES))
        cx, cy = (c + float(own.get(name, 0.0)) for c, name in zip(lens.principal_px, ("cx", "cy")))
        gain = float(np.exp(own.get("focal", 0.0)))
        return replace(lens.with_focal(lens.focal_px[0] * gain), radial=(k1, k2, k3), principal_px=(cx, cy))

    def variance(self, squares: np.ndarray) -> np.ndarray:
        """Return the variance of what shifts by the roots of `squares` (K, ...): the larger of both ways."""
        return np.maximum(squares[: self.cells].sum(0), squares[self.cells :].sum(0))

    def sigmas(self) -> tuple[np.ndarray, np.ndarray]:
        """Return one sigma of each frame's turn about its own axes (F, 3), radians, and of its position (F, 3)."""
        turns, positions = (np.sqrt(self.variance(d**2)) for d in (self.turns, self.positions))
        return turns, positions
