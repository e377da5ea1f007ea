"""How well a solve is determined: covariance in a stated gauge, with time-correlated track errors paid for.

Gauge: the first solved camera is held, and the distance along the longest axis to the camera furthest from it.
"""

import numpy as np

from amberkeel.core.linear import scaled_inverse
from amberkeel.core.solve.bundle import Bundle, _Workspace


def gauge_rows(bundle: Bundle) -> np.ndarray:
    """Return the rows (7,) of the reduced system, all cameras free, that the gauge holds."""
    away = bundle.centres - bundle.centres[0]
    far = int(np.argmax(np.linalg.norm(away, axis=1)))
    return np.array([*range(6), 6 * far + 3 + int(np.argmax(np.abs(away[far])))])


def covariance(bundle: Bundle, noise_factor: float) -> np.ndarray:
    """Return the covariance of cameras and lens (6 F + L, 6 F + L); rows held by the gauge are zero.

    `noise_factor` multiplies the standard deviations: residual scale times the loss from time correlation.
    """
    system = reduced_system(bundle)
    free = np.setdiff1d(np.arange(len(system)), gauge_rows(bundle))
    out = np.zeros_like(system)
    out[np.ix_(free, free)] = scaled_inverse(system[np.ix_(free, free)]) * noise_factor**2
    return out


def reduced_system(bundle: Bundle) -> np.ndarray:
    """Return the system of all cameras and the free lens values (6 F + L, 6 F + L), points eliminated."""
    bundle.free_cameras = np.ones(len(bundle.centres), bool)
    system, _, _ = _Workspace(bundle).reduce(bundle, 0.0)
    return np.tril(system) + np.tril(system, -1).T


def time_correlation(residuals: np.ndarray, first: np.ndarray) -> float:
    """Return the lag-one correlation of residuals (N, 2) along tracks, 0 to 0.98."""
    top = bottom = 0.0
    for a, z in zip(first[:-1], first[1:]):
        if z - a >= 4:
            e = residuals[a:z]
            top += float((e[1:] * e[:-1]).sum()) * (z - a) / (z - a - 1)
            bottom += float((e * e).sum())
    return float(np.clip(top / bottom if bottom else 0.0, 0.0, 0.98))


def noise_factor(residuals: np.ndarray, weight: np.ndarray, first: np.ndarray, cameras: int, lens_count: int) -> float:
    """Return by how much the stated noise understates: robust residual scale and the effective number of samples.

    A first-order process with lag-one correlation r carries (1 - r) / (1 + r) of its samples.
    """
    whitened = residuals * weight[:, None]
    scale = 1.4826 * np.median(np.abs(whitened))
    samples = 2 * len(residuals)
    unknowns = 6 * cameras + 3 * (len(first) - 1) + lens_count - 7
    freedom = np.sqrt(samples / max(samples - unknowns, 0.1 * samples))
    r = time_correlation(whitened, first)
    return float(scale * freedom * np.sqrt((1.0 + r) / (1.0 - r)))
