"""The lens: from directions in the camera to pixels, and back.

Normalised coordinates are ``(x/z, y/z)`` in the camera frame (x right, y down, z forward).
Model: ``x_d = x_u (1 + k1 r² + k2 r⁴ + k3 r⁶)`` with ``r² = |x_u|²``, plus tangential p1, p2
(Brown 1966); pixels are ``principal + focal * x_d``.
"""

from dataclasses import dataclass, replace

import numpy as np

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
    """

    width: int
    height: int
    focal_px: tuple[float, float]
    principal_px: tuple[float, float]
    radial: tuple[float, float, float] = (0.0, 0.0, 0.0)
    tangential: tuple[float, float] = (0.0, 0.0)
    pixel_aspect: float = 1.0

    @classmethod
    def centred(cls, width: int, height: int, focal_px: float, k1: float = 0.0, pixel_aspect: float = 1.0) -> "Lens":
        """Return a lens with its centre in the picture's middle; `focal_px` is along x."""
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
        x, y = xy[..., 0], xy[..., 1]
        r2 = x * x + y * y
        k1, k2, k3 = self.radial
        p1, p2 = self.tangential
        gain = 1.0 + r2 * (k1 + r2 * (k2 + r2 * k3))
        return np.stack(
            [
                x * gain + 2.0 * p1 * x * y + p2 * (r2 + 2.0 * x * x),
                y * gain + p1 * (r2 + 2.0 * y * y) + 2.0 * p2 * x * y,
            ],
            axis=-1,
        )

    def undistort(self, xy: np.ndarray, iterations: int = 30) -> np.ndarray:
        """Take distorted normalised coordinates (..., 2) to undistorted ones by Newton's method on the radius.

        Where the model folds over, the nearest radius before the fold is returned.
        """
        xy = np.asarray(xy, dtype=float)
        if not any(self.tangential):
            return self._undistort_radial(xy, iterations)
        out = self._undistort_radial(xy, iterations)
        for _ in range(iterations):
            out = out - (self.distort(out) - xy)
        return out

    def _undistort_radial(self, xy: np.ndarray, iterations: int) -> np.ndarray:
        k1, k2, k3 = self.radial
        r_d = np.linalg.norm(xy, axis=-1)
        r = r_d.copy()
        for _ in range(iterations):
            r2 = r * r
            value = r * (1.0 + r2 * (k1 + r2 * (k2 + r2 * k3))) - r_d
            slope = 1.0 + r2 * (3.0 * k1 + r2 * (5.0 * k2 + r2 * 7.0 * k3))
            step = value / np.maximum(slope, 0.05)
            r = np.maximum(r - np.clip(step, -0.5, 0.5), 0.0)
            if np.abs(step).max(initial=0.0) < 1e-13:
                break
        return xy * np.where(r_d > 0.0, r / np.where(r_d > 0.0, r_d, 1.0), 1.0)[..., None]

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
    """Return the focal length in pixels of a lens on a sensor `sensor_width_mm` wide seen by `width` pixels."""
    return focal_mm * width / sensor_width_mm
