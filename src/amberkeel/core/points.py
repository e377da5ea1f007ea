"""Points of a scene, keyed by the track that each came from."""

from dataclasses import dataclass

import numpy as np

FAR = 1e3
"""Distance, in usual depths, at which a point near infinity is put where a position is needed."""


@dataclass(frozen=True)
class PointSet:
    """Points of a solve or of a set.

    Attributes
    ----------
    ids : (T,) int, the tracks' ids, each once.
    homogeneous : (T, 4), ``X = homogeneous[:3] / homogeneous[3]`` in the world; the fourth is 0 at infinity. NaN where
        a track has no point.
    """

    ids: np.ndarray
    homogeneous: np.ndarray

    def __len__(self) -> int:
        return len(self.ids)

    @property
    def known(self) -> np.ndarray:
        """Which tracks have a point, (T,) bool."""
        return np.isfinite(self.homogeneous).all(1)

    def positions(self, origin: np.ndarray | None = None) -> np.ndarray:
        """Return positions (T, 3), NaN where there is none.

        Parameters
        ----------
        origin : (3,) where distances are measured from, or None for the world's origin. Points further away from it
            than `FAR` times the usual point, and those at infinity, are put at that distance, along their direction.
        """
        at = np.zeros(3) if origin is None else origin
        away = self.homogeneous[:, :3] - self.homogeneous[:, 3:] * at
        reach, inverse = np.linalg.norm(away, axis=1), np.abs(self.homogeneous[:, 3])
        finite = self.known & (inverse > 1e-9 * reach)
        usual = float(np.median(reach[finite] / inverse[finite])) if finite.any() else 1.0
        with np.errstate(invalid="ignore"):
            return at + away / np.maximum(inverse, reach / (FAR * usual))[:, None]

    def position(self, track: int) -> np.ndarray | None:
        """Return the position (3,) of a track's point by the track's id, or None where it has none."""
        row = np.nonzero(self.ids == track)[0]
        if not len(row) or not self.known[row[0]]:
            return None
        return self.positions()[row[0]]

    def moved(self, scale: float, rotation: np.ndarray, translation: np.ndarray) -> "PointSet":
        """Return the points in another world: ``x_new = scale * rotation @ x + translation``.

        Parameters
        ----------
        scale : new units a unit. rotation : (3, 3), new_from_old. translation : (3,) in new units.
        """
        w = self.homogeneous[:, 3:]
        return PointSet(self.ids, np.hstack([scale * self.homogeneous[:, :3] @ rotation.T + w * translation, w]))


def points_at(ids: np.ndarray, positions: np.ndarray) -> PointSet:
    """Return points at finite positions (T, 3), NaN for none."""
    return PointSet(
        np.asarray(ids, np.int64), np.hstack([positions, np.where(np.isfinite(positions[:, :1]), 1.0, np.nan)])
    )
