"""How the plate as a whole moves between two frames: a start for features that move far.

A shift by phase correlation (Kuglin and Hines 1975) on small pictures, then a homography through flow that starts
there.
"""

import cv2
import numpy as np

from amberkeel.core.geometry.homography import carried
from amberkeel.core.geometry.pixels import from_opencv

WORK_WIDTH = 320
SPOTS = 220
AGREE_PX = 1.5
LEAST = 16
"""Spots that must agree on a homography; with fewer the shift alone is used."""


def _small(gray: np.ndarray) -> np.ndarray:
    width = min(WORK_WIDTH, gray.shape[1])
    return cv2.resize(
        gray, (width, max(16, round(gray.shape[0] * width / gray.shape[1]))), interpolation=cv2.INTER_AREA
    )


def plate_motion(before: np.ndarray, after: np.ndarray) -> np.ndarray:
    """Return the homography (3, 3) that takes positions on `before` (H, W) uint8 to those on `after`, in pixels.

    It is rough (a pixel or so of the plate, more where depths differ much) and meant as a start.
    """
    a, b = _small(before), _small(after)
    window = cv2.createHanningWindow(a.shape[::-1], cv2.CV_32F)
    (dx, dy), _ = cv2.phaseCorrelate(a.astype(np.float32), b.astype(np.float32), window)
    found = _through_flow(a, b, np.array([dx, dy]))
    size = np.diag([a.shape[1] / before.shape[1], a.shape[0] / before.shape[0], 1.0])
    motion = np.linalg.inv(size) @ found @ size
    return motion / motion[2, 2]


def _through_flow(a: np.ndarray, b: np.ndarray, shift: np.ndarray) -> np.ndarray:
    """Return the homography between small pictures, of the start that more spots agree with: the shift, or none."""
    start = cv2.goodFeaturesToTrack(a, SPOTS, 0.002, 6.0)
    plain = np.eye(3)
    plain[:2, 2] = shift
    if start is None or len(start) < LEAST:
        return plain
    best, most = plain, 0
    for first in (shift, np.zeros(2)):
        guess = (start + first.astype(np.float32)).astype(np.float32)
        there, ok, _ = cv2.calcOpticalFlowPyrLK(
            a, b, start, guess.copy(), winSize=(17, 17), maxLevel=2, flags=cv2.OPTFLOW_USE_INITIAL_FLOW
        )
        ok = ok.ravel() == 1
        x, y = from_opencv(start.reshape(-1, 2)[ok]), from_opencv(there.reshape(-1, 2)[ok])
        if ok.sum() < LEAST:
            continue
        try:
            h, _ = cv2.findHomography(x, y, cv2.USAC_MAGSAC, AGREE_PX, None, 1000, 0.99)
        except cv2.error:
            continue
        if h is None:
            continue
        agree = int((np.linalg.norm(carried(h, x) - y, axis=1) < AGREE_PX).sum())
        if agree > max(most, LEAST):
            best, most = np.asarray(h, float), agree
    return best
