"""Slip as the picture shows it: how far the plate's texture at a place slides against what is pinned there.

Independent of the solve's tracks: patches about the place are registered from one frame to all others, each begun where
a plane of the surface carries it, so that only what remains is measured (inverse-compositional alignment, Baker and
Matthews 2004).
"""

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np

from amberkeel.core.camera import CameraPath
from amberkeel.core.errors import WorldError
from amberkeel.core.follow.bank import Bank, as_float, fit_variance, states_at
from amberkeel.core.follow.detect import grain_sigma, soften_px
from amberkeel.core.follow.register import OK, register_patches
from amberkeel.core.plate.plate import GrayFrames, Plate
from amberkeel.core.progress import Progress, silent
from amberkeel.core.world.planes import on_plane

HELD = 1e6
"""Weight by which a patch keeps the shape that its surface gives it: only shift, gain and offset are sought."""

ROUNDS = 15

HALF_SHARE, LEAST_HALF = 1.0 / 80.0, 9
"""Half side of a patch in widths of the picture; and pixels at the least."""

ABOUT = np.array([[0.0, 0.0], [1.5, 0.0], [-1.5, 0.0], [0.0, 1.5], [0.0, -1.5]])
"""Where the patches of a place lie about its foot, in half sides."""

LEAST_SCORE, STRAYED_PX = 0.9, 6.0
"""Correlation that a patch must reach, and how far it may be found from where its surface carries it."""

MOST_SIGMA_PX = 0.15
"""One sigma of a coordinate above which a patch tells nothing: haze and sky match anywhere along a slope of light."""

DULL = 2.0
"""Sigma over the usual spot's from which a spot's texture is too dull to tell slip."""

GROWN = 2.2
"""By how much a patch may grow or shrink against its reference."""

LEAST_FRAMES = 6
"""Frames on which a place must be measured."""

REFERENCE_PX = 0.02
"""What a reference patch errs by itself, pixels: the least sigma."""

AGREE_PX = 0.3
"""How far patches of a place may lie apart to speak for one surface."""


Masked = Callable[[int], np.ndarray] | None


@dataclass(frozen=True)
class Spot:
    """A place on a surface: where it is and the surface's normal, (3,) in the path's world, and the row on which it is
    looked at first.
    """

    xyz: np.ndarray
    normal: np.ndarray
    row: int


@dataclass(frozen=True)
class MeasuredSlip:
    """The slip of some places.

    Attributes
    ----------
    spots : those that could be measured. px : (S, F, 2) slip by the rows of the path, texture minus object, pixels, NaN
    where it was not seen; 0 on the spot's own row until places are settled. sigma : (S, F) of each axis.
    """

    spots: list[Spot]
    px: np.ndarray
    sigma: np.ndarray

    def taken(self, which: np.ndarray) -> "MeasuredSlip":
        """Return the slip of some of the spots alone, `which` (S,) bool."""
        return MeasuredSlip([s for s, on in zip(self.spots, which) if on], self.px[which], self.sigma[which])

    @property
    def xyz(self) -> np.ndarray:
        """Where the spots lie (S, 3) in the world."""
        return np.array([spot.xyz for spot in self.spots])

    @property
    def sharp(self) -> np.ndarray:
        """Spots (S,) bool whose texture holds them about as well as it does the usual one."""
        usual = np.nanmedian(self.sigma, axis=1)
        return usual <= DULL * np.median(usual)

    @property
    def size(self) -> np.ndarray:
        """Slip (S, F) in pixels."""
        return np.hypot(self.px[..., 0], self.px[..., 1])

    @property
    def by_spot(self) -> np.ndarray:
        """RMS of each spot (S,) over the frames on which it was measured."""
        return _rms(self.size, 1)

    @property
    def by_frame(self) -> np.ndarray:
        """RMS of each frame (F,) over the spots measured there, NaN for none."""
        return _rms(self.size, 0)


def _rms(values: np.ndarray, axis: int) -> np.ndarray:
    count = np.isfinite(values).sum(axis)
    with np.errstate(invalid="ignore", divide="ignore"):
        return np.where(count > 0, np.sqrt(np.nansum(values**2, axis) / count), np.nan)


def measure_slip(
    plate: Plate, path: CameraPath, spots: list[Spot], progress: Progress = silent, masked: Masked = None
) -> MeasuredSlip:
    """Measure how far the plate slides against places that are pinned to the scene.

    Parameters
    ----------
    plate : the pictures. path : the camera, in the world of the spots. spots : places on surfaces. progress : called
        with the share done. masked : from a frame number to (H, W) bool, what covers places, or None.

    Raises
    ------
    WorldError : nothing at the spots can be followed.
    """
    grain = grain_sigma(plate.gray(int(path.frames[len(path.frames) // 2])))
    px, sigma = np.full((len(spots), len(path.frames), 2), np.nan), np.full((len(spots), len(path.frames)), np.nan)
    grays = GrayFrames(plate, soften=soften_px(grain))
    try:
        held = _Patches(path, spots, max(LEAST_HALF, round(HALF_SHARE * plate.width)), grays)
        for row, frame in enumerate(path.frames.tolist()):
            progress(row / len(path.frames), f"Measuring slip, frame {frame}")
            held.measure(row, as_float(grays.get(frame)), px, sigma, masked(frame) if masked else None)
    finally:
        grays.close()
    for n, spot in enumerate(spots):
        px[n, spot.row], sigma[n, spot.row] = 0.0, REFERENCE_PX
    enough = np.isfinite(px[..., 0]).sum(1) >= LEAST_FRAMES
    if not enough.any():
        raise WorldError("No place could be measured.", "Put it where the surface has texture and is seen for longer.")
    return MeasuredSlip([spot for spot, ok in zip(spots, enough) if ok], px[enough], sigma[enough])


class _Patches:
    """Reference patches about all spots, and where their surfaces carry them."""

    def __init__(self, path: CameraPath, spots: list[Spot], half: int, grays: GrayFrames):
        self.path, self.half, self.bank = path, half, Bank(half, HELD)
        owner: list[int] = []
        corners: list[list] = []
        middles: list[np.ndarray] = []
        parts: list[tuple] = []
        for row in sorted({spot.row for spot in spots}):
            gray = as_float(grays.get(int(path.frames[row])))
            for n, spot in enumerate(spots):
                if spot.row == row:
                    before = len(middles)
                    self._cut(spot, gray, corners, middles, parts)
                    owner += [n] * (len(middles) - before)
        self.corners = np.array(corners).reshape(-1, 4, 3)
        self.middles, self.owner = np.array(middles).reshape(-1, 3), np.array(owner, int)
        if parts:
            self.patches, self.gradients, self.inverses, self.greys = (np.concatenate(p) for p in zip(*parts))

    def _cut(self, spot: Spot, gray: np.ndarray, corners: list, middles: list, parts: list) -> None:
        """Take up the patches of a spot that show something to hold on to."""
        at = self.path.project(spot.xyz[None], spot.row)[0]
        limit = np.array([gray.shape[1], gray.shape[0]]) - self.half - 3.0
        for offset in ABOUT * self.half:
            middle = at + offset
            if not np.isfinite(middle).all() or (middle < self.half + 3.0).any() or (middle > limit).any():
                continue
            patch = self.bank.cut(gray, middle[None])
            if not patch[3][0]:
                continue
            box = middle + self.half * CORNERS
            try:
                on = [on_plane(self.path, spot.row, px, spot.xyz, spot.normal) for px in (*box, middle)]
            except WorldError:
                continue
            corners.append(on[:4])
            middles.append(on[4])
            parts.append((*patch[:3], states_at(gray, middle[None])[:, 7]))

    def measure(self, row: int, gray: np.ndarray, px: np.ndarray, sigma: np.ndarray, hidden: np.ndarray | None) -> None:
        """Fill the slip and its sigma of the spots that are seen on a row, where `hidden` (H, W) covers none."""
        if not len(self.owner):
            return
        expected, warps = self._carried(row)
        with np.errstate(invalid="ignore"):
            grown = np.sqrt(np.abs(np.linalg.det(warps)))
            asked = np.isfinite(expected).all(1) & (grown > 1.0 / GROWN) & (grown < GROWN)
        if hidden is not None:
            x, y = np.nan_to_num(expected).astype(int).T
            inside = (x >= 0) & (y >= 0) & (x < hidden.shape[1]) & (y < hidden.shape[0])
            asked &= inside & ~hidden[np.where(inside, y, 0), np.where(inside, x, 0)]
        rows = np.nonzero(asked)[0]
        states = np.column_stack([expected[rows], warps[rows].reshape(-1, 4), np.ones(len(rows)), self.greys[rows]])
        results, status = np.zeros((len(rows), 3)), np.zeros(len(rows), np.int64)
        register_patches(
            gray, self.patches[rows], self.gradients[rows], self.inverses[rows], self.half, states, ROUNDS, results,
            status,
        )  # fmt: skip
        slip = states[:, :2] - expected[rows]
        good = (status == OK) & (results[:, 0] > LEAST_SCORE) & (np.hypot(*slip.T) < STRAYED_PX)
        good &= fit_variance(states, results) < MOST_SIGMA_PX**2
        own, variance = self.owner[rows[good]], fit_variance(states[good], results[good])
        for n in np.unique(own):
            found = _agreed(slip[good][own == n], np.sqrt(variance[own == n]))
            if found is not None:
                px[n, row], sigma[n, row] = found

    def _carried(self, row: int) -> tuple[np.ndarray, np.ndarray]:
        """Return where the patches' middles (M, 2) are carried on a row and the warps (M, 2, 2) there; NaN behind."""
        count = len(self.owner)
        xyz = np.concatenate([self.corners.reshape(-1, 3), self.middles])
        ahead = self.path.to_camera(xyz, row)[:, 2:] > 0.0
        seen = np.where(ahead, self.path.project_read(xyz, row), np.nan)
        box, middle = seen[: 4 * count].reshape(-1, 4, 2), seen[4 * count :]
        own = self.half * CORNERS
        warps = np.einsum("ka,mkb->mba", own / (own**2).sum(0), box - box.mean(1, keepdims=True))
        return middle, warps


CORNERS = np.array([[-1.0, -1.0], [1.0, -1.0], [1.0, 1.0], [-1.0, 1.0]])


def _agreed(slips: np.ndarray, sigmas: np.ndarray) -> tuple[np.ndarray, float] | None:
    """Return the slip (2,) that patches of a spot agree on and its sigma, None where they do not.

    Parameters
    ----------
    slips : (M, 2) pixels. sigmas : (M,).
    """
    near = np.linalg.norm(slips - np.median(slips, 0), axis=1) < np.maximum(AGREE_PX, 4.0 * sigmas)
    if near.sum() < max(1, len(slips) // 2 + 1):
        return None
    weights = 1.0 / (sigmas[near] ** 2 + REFERENCE_PX**2)
    mean = (weights[:, None] * slips[near]).sum(0) / weights.sum()
    return mean, float(np.hypot(1.0 / np.sqrt(weights.sum()), REFERENCE_PX))


PLACINGS, CAUCHY = 12, 2.0
"""Steps by which a place is put where the camera sees its texture best; sigmas from which a frame counts less."""

STEP = 1e-4
"""Share of its distance by which a place is moved for derivatives."""


def settled(path: CameraPath, measured: MeasuredSlip, which: np.ndarray) -> MeasuredSlip:
    """Return slip with some places put where the camera sees their texture best: what remains is the camera's own, and
    no longer that of a surface which lies elsewhere.

    Parameters
    ----------
    path : the camera that it was measured with. measured : slip. which : (S,) bool, the places that may move.
    """
    spots, px = list(measured.spots), measured.px.copy()
    for n in np.nonzero(which)[0]:
        rows = np.nonzero(np.isfinite(px[n, :, 0]))[0]
        seen = path.project_read(np.repeat(spots[n].xyz[None], len(rows), 0), rows) + px[n, rows]
        sigma = np.hypot(measured.sigma[n, rows], REFERENCE_PX)
        xyz = _placed(path, rows, seen, sigma, spots[n].xyz)
        spots[n] = Spot(xyz, spots[n].normal, spots[n].row)
        px[n, rows] = seen - path.project_read(np.repeat(xyz[None], len(rows), 0), rows)
    return MeasuredSlip(spots, px, measured.sigma)


def _placed(path: CameraPath, rows: np.ndarray, seen: np.ndarray, sigma: np.ndarray, xyz: np.ndarray) -> np.ndarray:
    """Return where a point (3,) lies that is seen at pixels (K, 2) on rows (K,), begun where it was."""
    step = STEP * float(np.linalg.norm(xyz - path.positions[rows[0]]))

    def project(at: np.ndarray) -> np.ndarray:
        return path.project_read(np.repeat(at[None], len(rows), 0), rows)

    for _ in range(PLACINGS):
        now = project(xyz)
        left = (seen - now) / sigma[:, None]
        weight = 1.0 / (1.0 + (left**2).sum(1) / CAUCHY**2)
        slope = np.stack([(project(xyz + step * axis) - now) / step for axis in np.eye(3)], 2) / sigma[:, None, None]
        normal = np.einsum("k,kai,kaj->ij", weight, slope, slope)
        # A depth that no parallax tells stays as it is.
        normal += 1e-6 * np.trace(normal) * np.eye(3)
        move = np.linalg.solve(normal, np.einsum("k,kai,ka->i", weight, slope, left))
        if not np.isfinite(move).all():
            return xyz
        xyz = xyz + move
        if np.linalg.norm(move) < 0.01 * step:
            break
    return xyz
