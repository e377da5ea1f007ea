"""The lens: from directions in the camera to pixels, and back.

Normalised coordinates are ``(x/z, y/z)`` in the camera frame (x right, y down, z forward); pixels are
``principal + focal * x_d``. The formulas of x_d are in `kernels`: radial and tangential (Brown 1966), one
division coefficient (Fitzgibbon 2001), or two axes with coefficients of their own, turned, for anamorphic lenses.
"""

from dataclasses import dataclass, replace

import numpy as np

from amberkeel.core.lens.kernels import distort_all, undistort_all

MM_PER_INCH = 25.4


@dataclass(frozen=True)
class Lens:
    """Focal length, principal point and distortion of one picture size.

    Attributes
    ----------
    width, height : picture size in pixels.
    focal_px : (fx, fy) in pixels.
    principal_px : (cx, cy) in pixels from the top left corner.
    radial : (k1, k2, k3), tangential : (p1, p2); no unit.
    pixel_aspect : width of a pixel over its height.
    division : coefficient of the division model, which then stands alone.
    two_axis : ten coefficients of an anamorphic lens (see `kernels`), turned by `turn` radians.
    """

    width: int
    height: int
    focal_px: tuple[float, float]
    principal_px: tuple[float, float]
    radial: tuple[float, float, float] = (0.0, 0.0, 0.0)
    tangential: tuple[float, float] = (0.0, 0.0)
    pixel_aspect: float = 1.0
    division: float = 0.0
    two_axis: tuple[float, ...] = (0.0,) * 10
    turn: float = 0.0

    @property
    def model(self) -> str:
        """The distortion model's name: "division", "two-axis" or "radial"."""
        return "division" if self.division else "two-axis" if any(self.two_axis) else "radial"

    @property
    def coefficients(self) -> np.ndarray:
        """All coefficients (17,), in the order of `kernels`."""
        return np.array([*self.radial, *self.tangential, self.division, self.turn, *self.two_axis])

    def with_coefficients(self, c: np.ndarray) -> "Lens":
        """Return this lens with other coefficients (17,)."""
        k1, k2, k3, p1, p2, division, turn, *two_axis = (float(v) for v in c)
        return replace(
            self, radial=(k1, k2, k3), tangential=(p1, p2), division=division, turn=turn, two_axis=tuple(two_axis)
        )

    def holds(self, px: np.ndarray, edge: float = 0.0) -> np.ndarray:
        """Return which pixels (N, 2) lie in the picture, `edge` pixels from its edge, (N,) bool; NaN lies nowhere."""
        with np.errstate(invalid="ignore"):
            return np.all((px > edge) & (px < [self.width - edge, self.height - edge]), axis=1)

    @classmethod
    def centred(cls, width: int, height: int, focal_px: float, k1: float = 0.0, pixel_aspect: float = 1.0) -> "Lens":
        """Return a lens with its centre in the picture's middle; `focal_px` is along x.

        Parameters
        ----------
        width, height : of the picture, pixels. focal_px : along x. k1 : radial coefficient. pixel_aspect : width
            of a pixel over its height.
        """
        return cls(
            width,
            height,
            (focal_px, focal_px * pixel_aspect),
            (width / 2.0, height / 2.0),
            (k1, 0.0, 0.0),
            (0.0, 0.0),
            pixel_aspect,
        )

    def with_focal(self, focal_px: float) -> "Lens":
        """Return this lens with another focal length along x, in pixels."""
        return replace(self, focal_px=(focal_px, focal_px * self.pixel_aspect))

    def focal_mm(self, sensor_width_mm: float) -> float:
        """Return the focal length in millimetres for a sensor `sensor_width_mm` wide."""
        return self.focal_px[0] * sensor_width_mm / self.width

    def distort(self, xy: np.ndarray) -> np.ndarray:
        """Take undistorted normalised coordinates (..., 2) to distorted ones (..., 2)."""
        xy = np.asarray(xy, dtype=float)
        out = np.empty((xy.size // 2, 2))
        distort_all(self.coefficients, np.ascontiguousarray(xy.reshape(-1, 2)), out)
        return out.reshape(xy.shape)

    def undistort(self, xy: np.ndarray) -> np.ndarray:
        """Take distorted normalised coordinates (..., 2) to undistorted ones; before a fold, the nearest position."""
        return self.undistort_known(xy)[0]

    def undistort_known(self, xy: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return undistorted coordinates (..., 2) and whether the model reaches them (...,) bool, or folds over
        before.
        """
        xy = np.asarray(xy, dtype=float)
        out, reached = np.empty((xy.size // 2, 2)), np.empty(xy.size // 2, np.bool_)
        undistort_all(self.coefficients, np.ascontiguousarray(xy.reshape(-1, 2)), out, reached)
        return out.reshape(xy.shape), reached.reshape(xy.shape[:-1])

    def folds(self) -> float | None:
        """Return the share of the picture's half diagonal at which the model folds over, or None when all of it is
        reached.
        """
        share = np.linspace(0.02, 1.0, 99)
        corners = np.array(
            [
                [0.0, 0.0],
                [self.width, 0.0],
                [0.0, self.height],
                [self.width, self.height],
                [self.width, self.height / 2],
                [self.width / 2, self.height],
            ]
        )
        middle = np.array([self.width, self.height]) / 2.0
        px = middle + share[:, None, None] * (corners - middle)
        _, reached = self.undistort_known((px - np.array(self.principal_px)) / np.array(self.focal_px))
        lost = np.nonzero(~reached.all(1))[0]
        return float(share[lost[0]]) if len(lost) else None

    def project(self, xyz: np.ndarray) -> np.ndarray:
        """Project points in the camera frame (..., 3) to pixels (..., 2); points with z <= 0 give NaN."""
        z = xyz[..., 2:3]
        with np.errstate(divide="ignore", invalid="ignore"):
            normal = np.where(z > 1e-12, xyz[..., :2] / z, np.nan)
        return self.distort(normal) * np.array(self.focal_px) + np.array(self.principal_px)

    def normalise(self, px: np.ndarray) -> np.ndarray:
        """Take pixels (..., 2) to undistorted normalised coordinates (..., 2)."""
        distorted = (np.asarray(px, dtype=float) - np.array(self.principal_px)) / np.array(self.focal_px)
        return self.undistort(distorted)


def focal_px_from_mm(focal_mm: float, sensor_width_mm: float, width: int) -> float:
    """Return the focal length in pixels of a lens on a sensor `sensor_width_mm` wide seen by `width` pixels.

    Parameters
    ----------
    focal_mm : focal length, mm. sensor_width_mm : of the filmed part, mm. width : of the picture, pixels.
    """
    return focal_mm * width / sensor_width_mm
