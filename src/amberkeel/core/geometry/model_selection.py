"""Choosing between models of a motion that differ in parameters and in the freedom they leave each point."""

import numpy as np


def gric(residual: np.ndarray, noise: float, manifold: int, parameters: int) -> float:
    """Return the geometric robust information criterion of a model of two views; lower is better.

    Parameters
    ----------
    residual : (N,) pixels, geometric. noise : one sigma of a measurement, pixels.
    manifold : dimension of the set of matches that the model allows: 2 for a homography, 3 for an epipolar geometry.
    parameters : of the model.

    References
    ----------
    Torr, P. H. S. (1998). Geometric motion segmentation and model selection. The criterion penalises the number of
    parameters and the dimension of the point manifold, and bounds each residual.
    """
    n = len(residual)
    bounded = np.minimum((residual / noise) ** 2, 2.0 * (4 - manifold))
    return float(bounded.sum() + np.log(4.0) * manifold * n + np.log(4.0 * n) * parameters)
