"""Bundle adjustment: cameras, points and lens together.

Levenberg-Marquardt with a gain ratio; points eliminated by the Schur complement in one numba pass over observations
sorted by point; the camera system solved densely by Cholesky (Triggs et al. 1999). Cauchy loss on whitened residuals.
"""

from dataclasses import dataclass, field, replace

import numpy as np
from numba import njit, prange
from scipy.linalg import LinAlgError, cho_factor, cho_solve

from amberkeel.core.geometry import rotation_exp
from amberkeel.core.solve.lens_terms import LensPriors
from amberkeel.core.solve.projection import (
    BEHIND,
    LENS_PARAMETERS,
    residual,
    residual_and_derivatives,
    tangent,
)

SETTLED = 1e-6
"""Damping at or below which a small gain means convergence; above it, a step may only be short along a valley."""

CHUNKS = 2
"""Accumulators filled side by side, one a thread."""


@dataclass
class Bundle:
    """The unknowns and the measurements of an adjustment; `adjust` changes it in place.

    Attributes
    ----------
    rotations (F, 3, 3) world_from_camera, centres (F, 3) : cameras.
    anchors (P, 3), directions (P, 3), rhos (P,) : points, ``X = anchor + direction / rho``.
    lens (7,) : fx, aspect, cx, cy, k1, k2, k3. zoom (K,) : coefficients of the log focal length over frames, on the
        basis (F, K); none for a fixed focal length.
    first (P + 1,) : observations of point p are rows ``first[p]:first[p + 1]``, by rising camera.
    camera (N,) int, xy (N, 2) pixels, weight (N,) one over sigma in pixels; weight 0 leaves an observation out.
    free_cameras (F,) bool. free_lens : numbers of free lens parameters, of log fx, k1, k2, k3, cx, cy and then the zoom's.
    priors : soft values of the lens parameters.
    loss_scale : whitened residual at which the Cauchy loss bends.
    """

    rotations: np.ndarray
    centres: np.ndarray
    anchors: np.ndarray
    directions: np.ndarray
    rhos: np.ndarray
    lens: np.ndarray
    first: np.ndarray
    camera: np.ndarray
    xy: np.ndarray
    weight: np.ndarray
    free_cameras: np.ndarray
    free_lens: tuple[int, ...] = ()
    priors: LensPriors = field(default_factory=LensPriors)
    loss_scale: float = 2.5
    zoom: np.ndarray = field(default_factory=lambda: np.zeros(0))
    basis: np.ndarray | None = None

    def slots(self) -> np.ndarray:
        """Return each camera's place in the reduced system, or -1 where it is held, (F,) int."""
        return np.where(self.free_cameras, np.cumsum(self.free_cameras) - 1, -1).astype(np.int64)

    def lens_parameters(self) -> np.ndarray:
        """Return log fx, k1, k2, k3, cx, cy and the zoom's coefficients."""
        return np.array([np.log(self.lens[0]), *self.lens[4:7], *self.lens[2:4], *self.zoom])

    def lenses(self) -> np.ndarray:
        """Return each camera's lens (F, 7)."""
        return lenses_of(self.lens, self.zoom, self.bases())

    def bases(self) -> np.ndarray:
        """Return the zoom's basis (F, K), of no column where nothing zooms."""
        return self.basis if self.basis is not None else np.zeros((len(self.centres), 0))

    def residuals(self) -> np.ndarray:
        """Return projected minus measured (N, 2) in pixels; 1e3 where a point is behind the camera."""
        out = np.empty_like(self.xy)
        point = np.repeat(np.arange(len(self.rhos)), np.diff(self.first))
        _residuals(
            self.rotations, self.centres, self.anchors, self.directions, self.rhos, self.lenses(),
            point, self.camera, self.xy, out,
        )  # fmt: skip
        return out

    def points(self, far: float = 1e4) -> np.ndarray:
        """Return point positions (P, 3); points beyond `far` or at infinity are put at that distance."""
        return self.anchors + self.directions / np.maximum(self.rhos, 1.0 / far)[:, None]


def lenses_of(lens: np.ndarray, zoom: np.ndarray, basis: np.ndarray) -> np.ndarray:
    """Return each camera's lens (F, 7) from one lens (7,), zoom coefficients (K,) and their basis (F, K)."""
    out = np.tile(lens, (len(basis), 1))
    if len(zoom):
        out[:, 0] *= np.exp(basis @ zoom)
    return out


@njit(cache=True, nogil=True, fastmath=True)
def _residuals(rotations, centres, anchors, directions, rhos, lenses, point, camera, xy, out):
    for n in range(len(camera)):
        p, f = point[n], camera[n]
        residual(rotations[f], centres[f], anchors[p], directions[p], rhos[p], lenses[f], xy[n], out[n])


@njit(cache=True, nogil=True, fastmath=True, parallel=True)
def _cost(rotations, centres, anchors, directions, rhos, lenses, first, camera, xy, weight, scale2):
    """Return the robust cost, half the sum of the Cauchy loss."""
    parts = np.zeros(CHUNKS)
    count = len(rhos)
    for chunk in prange(CHUNKS):
        e = np.empty(2)
        total, product = 0.0, 1.0
        for p in range(chunk * count // CHUNKS, (chunk + 1) * count // CHUNKS):
            for n in range(first[p], first[p + 1]):
                if weight[n] == 0.0:
                    continue
                f = camera[n]
                ahead = residual(rotations[f], centres[f], anchors[p], directions[p], rhos[p], lenses[f], xy[n], e)
                r2 = (e[0] * e[0] + e[1] * e[1]) * weight[n] * weight[n] if ahead else BEHIND
                product *= 1.0 + r2 / scale2
                if product > 1e200:
                    total += np.log(product)
                    product = 1.0
        parts[chunk] = 0.5 * scale2 * (total + np.log(product))
    return parts.sum()


@njit(cache=True, fastmath=True, nogil=True)
def _invert3(v, out):
    a, b, c, d, e, f = v[0, 0], v[0, 1], v[0, 2], v[1, 1], v[1, 2], v[2, 2]
    m00, m01, m02 = d * f - e * e, c * e - b * f, b * e - c * d
    inv = 1.0 / (a * m00 + b * m01 + c * m02)
    out[0, 0], out[0, 1], out[0, 2] = m00 * inv, m01 * inv, m02 * inv
    out[1, 1], out[1, 2], out[2, 2] = (a * f - c * c) * inv, (b * c - a * e) * inv, (a * d - b * b) * inv
    out[1, 0], out[2, 0], out[2, 1] = out[0, 1], out[0, 2], out[1, 2]


@njit(cache=True, nogil=True, fastmath=True, parallel=True)
def _reduce(
    rotations, centres, anchors, directions, rhos, lenses, first, camera, xy, weight, scale2,
    slots, free_lens, basis_of_zoom, size, damping, systems, sides, diagonals, blocks, inverses, gradients,
):  # fmt: skip
    """Eliminate the points: fill each chunk's reduced system (lower triangle), right side and undamped diagonal.

    `blocks` (N, 10, 3) camera and lens rows against the point, `inverses` (P, 3, 3) and `gradients` (P, 3) are kept
    for back-substitution.
    """
    count, lens_count = len(rhos), len(free_lens)
    lens_at = size - lens_count
    for chunk in prange(CHUNKS):
        system, side, diagonal = systems[chunk], sides[chunk], diagonals[chunk]
        system[:] = 0.0
        side[:] = 0.0
        diagonal[:] = 0.0
        e, basis = np.empty(2), np.empty((3, 2))
        jc, jp, jall = np.empty((2, 6)), np.empty((2, 3)), np.empty((2, LENS_PARAMETERS))
        jl = np.empty((2, lens_count))
        v, lens_rows, y = np.empty((3, 3)), np.empty((lens_count, 3)), np.empty((6, 3))
        y_lens = np.empty((lens_count, 3))
        for p in range(chunk * count // CHUNKS, (chunk + 1) * count // CHUNKS):
            v[:] = 0.0
            lens_rows[:] = 0.0
            gp = gradients[p]
            gp[:] = 0.0
            tangent(directions[p], basis)
            for n in range(first[p], first[p + 1]):
                f = camera[n]
                w = blocks[n]
                w[:] = 0.0
                if weight[n] == 0.0:
                    continue
                if not residual_and_derivatives(
                    rotations[f], centres[f], anchors[p], directions[p], rhos[p], basis, lenses[f], xy[n], e, jc, jp, jall
                ):
                    continue
                w2 = weight[n] * weight[n]
                w2 /= 1.0 + (e[0] * e[0] + e[1] * e[1]) * w2 / scale2
                for k in range(lens_count):
                    q = free_lens[k]
                    if q < LENS_PARAMETERS:
                        jl[0, k], jl[1, k] = jall[0, q], jall[1, q]
                    else:
                        share = basis_of_zoom[f, q - LENS_PARAMETERS]
                        jl[0, k], jl[1, k] = share * jall[0, 0], share * jall[1, 0]
                for a in range(3):
                    gp[a] -= w2 * (jp[0, a] * e[0] + jp[1, a] * e[1])
                    for b in range(a, 3):
                        v[a, b] += w2 * (jp[0, a] * jp[0, b] + jp[1, a] * jp[1, b])
                slot = slots[f]
                if slot >= 0:
                    at = 6 * slot
                    for a in range(6):
                        side[at + a] -= w2 * (jc[0, a] * e[0] + jc[1, a] * e[1])
                        for b in range(a + 1):
                            system[at + a, at + b] += w2 * (jc[0, a] * jc[0, b] + jc[1, a] * jc[1, b])
                        for b in range(3):
                            w[a, b] = w2 * (jc[0, a] * jp[0, b] + jc[1, a] * jp[1, b])
                    for k in range(lens_count):
                        for a in range(6):
                            system[lens_at + k, at + a] += w2 * (jl[0, k] * jc[0, a] + jl[1, k] * jc[1, a])
                for k in range(lens_count):
                    side[lens_at + k] -= w2 * (jl[0, k] * e[0] + jl[1, k] * e[1])
                    for j in range(k + 1):
                        system[lens_at + k, lens_at + j] += w2 * (jl[0, k] * jl[0, j] + jl[1, k] * jl[1, j])
                    for b in range(3):
                        lens_rows[k, b] += w2 * (jl[0, k] * jp[0, b] + jl[1, k] * jp[1, b])
            for a in range(3):
                v[a, a] = v[a, a] * (1.0 + damping) + 1e-9
            _invert3(v, inverses[p])
            vi = inverses[p]
            for k in range(lens_count):
                for b in range(3):
                    y_lens[k, b] = lens_rows[k, 0] * vi[0, b] + lens_rows[k, 1] * vi[1, b] + lens_rows[k, 2] * vi[2, b]
                side[lens_at + k] -= y_lens[k, 0] * gp[0] + y_lens[k, 1] * gp[1] + y_lens[k, 2] * gp[2]
                diagonal[lens_at + k] += (
                    y_lens[k, 0] * lens_rows[k, 0] + y_lens[k, 1] * lens_rows[k, 1] + y_lens[k, 2] * lens_rows[k, 2]
                )
                for j in range(k + 1):
                    system[lens_at + k, lens_at + j] -= (
                        y_lens[k, 0] * lens_rows[j, 0] + y_lens[k, 1] * lens_rows[j, 1] + y_lens[k, 2] * lens_rows[j, 2]
                    )
            for n in range(first[p], first[p + 1]):
                slot = slots[camera[n]]
                if slot < 0 or weight[n] == 0.0:
                    continue
                at = 6 * slot
                w = blocks[n]
                for a in range(6):
                    for b in range(3):
                        y[a, b] = w[a, 0] * vi[0, b] + w[a, 1] * vi[1, b] + w[a, 2] * vi[2, b]
                    side[at + a] -= y[a, 0] * gp[0] + y[a, 1] * gp[1] + y[a, 2] * gp[2]
                    diagonal[at + a] += y[a, 0] * w[a, 0] + y[a, 1] * w[a, 1] + y[a, 2] * w[a, 2]
                for k in range(lens_count):
                    for a in range(6):
                        system[lens_at + k, at + a] -= (
                            y[a, 0] * lens_rows[k, 0] + y[a, 1] * lens_rows[k, 1] + y[a, 2] * lens_rows[k, 2]
                        )
                for o in range(first[p], n + 1):
                    other = slots[camera[o]]
                    if other < 0 or weight[o] == 0.0:
                        continue
                    to = 6 * other
                    wo = blocks[o]
                    for a in range(6):
                        y0, y1, y2 = y[a, 0], y[a, 1], y[a, 2]
                        for b in range(6):
                            system[at + a, to + b] -= y0 * wo[b, 0] + y1 * wo[b, 1] + y2 * wo[b, 2]
            for n in range(first[p], first[p + 1]):
                for k in range(lens_count):
                    for b in range(3):
                        blocks[n, 6 + k, b] = lens_rows[k, b]


@njit(cache=True, nogil=True, fastmath=True)
def _point_steps(first, camera, weight, slots, lens_count, size, blocks, inverses, gradients, step, out):
    """Back-substitute: fill each point's step (P, 3) from the camera and lens step (size,)."""
    lens_at = size - lens_count
    g = np.empty(3)
    for p in range(len(first) - 1):
        g[:] = gradients[p]
        for n in range(first[p], first[p + 1]):
            slot = slots[camera[n]]
            if slot < 0 or weight[n] == 0.0:
                continue
            for a in range(6):
                for b in range(3):
                    g[b] -= blocks[n, a, b] * step[6 * slot + a]
        if first[p + 1] > first[p]:
            for k in range(lens_count):
                for b in range(3):
                    g[b] -= blocks[first[p], 6 + k, b] * step[lens_at + k]
        for a in range(3):
            out[p, a] = inverses[p, a, 0] * g[0] + inverses[p, a, 1] * g[1] + inverses[p, a, 2] * g[2]


@njit(cache=True, nogil=True, fastmath=True)
def _move_points(directions, rhos, steps, new_directions, new_rhos):
    basis = np.empty((3, 2))
    for p in range(len(rhos)):
        tangent(directions[p], basis)
        norm = 0.0
        for a in range(3):
            value = directions[p, a] + basis[a, 0] * steps[p, 0] + basis[a, 1] * steps[p, 1]
            new_directions[p, a] = value
            norm += value * value
        norm = np.sqrt(norm)
        for a in range(3):
            new_directions[p, a] /= norm
        new_rhos[p] = (rhos[p] + steps[p, 2]) / norm


@njit(cache=True, nogil=True)
def _turn(rotations, steps, cameras, out):
    for k in range(len(cameras)):
        out[cameras[k]] = rotations[cameras[k]] @ rotation_exp(steps[k])


class _Workspace:
    """Arrays of an adjustment, allocated once."""

    def __init__(self, b: Bundle):
        self.slots = b.slots()
        self.free = np.nonzero(b.free_cameras)[0]
        self.lens = np.array(b.free_lens, np.int64)
        self.size = 6 * len(self.free) + len(self.lens)
        self.systems = np.empty((CHUNKS, self.size, self.size))
        self.sides = np.empty((CHUNKS, self.size))
        self.diagonals = np.empty((CHUNKS, self.size))
        self.blocks = np.empty((len(b.camera), 6 + len(self.lens), 3))
        self.inverses = np.empty((len(b.rhos), 3, 3))
        self.gradients = np.empty((len(b.rhos), 3))

    def reduce(self, b: Bundle, damping: float) -> tuple[np.ndarray, np.ndarray, np.ndarray]:
        """Return the reduced system (lower triangle), its right side, and the diagonal before elimination."""
        _reduce(
            b.rotations, b.centres, b.anchors, b.directions, b.rhos, b.lenses(), b.first, b.camera, b.xy, b.weight,
            b.loss_scale**2, self.slots, self.lens, b.bases(), self.size, damping,
            self.systems, self.sides, self.diagonals, self.blocks, self.inverses, self.gradients,
        )  # fmt: skip
        system, side = self.systems[0], self.sides[0]
        for chunk in range(1, CHUNKS):
            system += self.systems[chunk]
            side += self.sides[chunk]
        lens_at = self.size - len(self.lens)
        if len(self.lens):
            residual, rows = b.priors.rows(b.lens_parameters())
            rows = rows[:, self.lens]
            system[lens_at:, lens_at:] += np.tril(rows.T @ rows)
            side[lens_at:] -= rows.T @ residual
        return system, side, np.diagonal(system) + self.diagonals.sum(0)


def total_cost(b: Bundle) -> float:
    """Return the robust cost of a bundle with its priors."""
    soft = b.priors.cost(b.lens_parameters()) if b.free_lens else 0.0
    return soft + _cost(
        b.rotations, b.centres, b.anchors, b.directions, b.rhos, b.lenses(),
        b.first, b.camera, b.xy, b.weight, b.loss_scale**2,
    )  # fmt: skip


def adjust(b: Bundle, iterations: int = 20, tolerance: float = 1e-5, damping: float = 1e-5) -> float:
    """Adjust a bundle in place; return the final robust cost.

    Stops after `iterations`, or when an accepted step lowers the cost by less than the share `tolerance`.
    """
    work = _Workspace(b)
    cost, rise = total_cost(b), 2.0
    for _ in range(iterations):
        system, side, diagonal = work.reduce(b, damping)
        system[np.diag_indices(work.size)] += damping * diagonal + 1e-12 * diagonal.max(initial=1.0)
        try:
            step = cho_solve(cho_factor(system, lower=True, check_finite=False), side, check_finite=False)
        except LinAlgError:
            damping *= 10.0
            continue
        trial, points = _stepped(b, work, step)
        new_cost = total_cost(trial)
        expected = 0.5 * (step @ (damping * diagonal * step + side) + float((points * work.gradients).sum()))
        ratio = (cost - new_cost) / max(expected, 1e-300)
        if new_cost < cost:
            gone = (cost - new_cost) / max(cost, 1e-300)
            for name in ("rotations", "centres", "directions", "rhos", "lens", "zoom"):
                setattr(b, name, getattr(trial, name))
            cost, rise = new_cost, 2.0
            damping = max(damping * max(1.0 / 3.0, 1.0 - (2.0 * min(ratio, 1.0) - 1.0) ** 3), 1e-9)
            if gone < tolerance and damping <= SETTLED:
                break
            if gone < tolerance:
                damping *= 0.1
        else:
            damping, rise = damping * rise, rise * 2.0
            if damping > 1e8:
                break
    return cost


def _stepped(b: Bundle, work: _Workspace, step: np.ndarray) -> tuple[Bundle, np.ndarray]:
    """Return the bundle after a step of cameras and lens, with the points following, and the points' step."""
    points = np.empty((len(b.rhos), 3))
    _point_steps(
        b.first, b.camera, b.weight, work.slots, len(work.lens), work.size,
        work.blocks, work.inverses, work.gradients, step, points,
    )  # fmt: skip
    cameras = step[: 6 * len(work.free)].reshape(-1, 6)
    rotations, centres, lens, zoom = b.rotations.copy(), b.centres.copy(), b.lens.copy(), b.zoom.copy()
    _turn(b.rotations, np.ascontiguousarray(cameras[:, :3]), work.free, rotations)
    centres[work.free] += cameras[:, 3:]
    for k, q in enumerate(work.lens):
        value = step[work.size - len(work.lens) + k]
        if q == 0:
            lens[0] *= np.exp(np.clip(value, -0.5, 0.5))
        elif q < 4:
            lens[3 + q] += np.clip(value, -0.3, 0.3)
        elif q < LENS_PARAMETERS:
            lens[q - 2] += value
        else:
            zoom[q - LENS_PARAMETERS] += np.clip(value, -0.3, 0.3)
    directions, rhos = np.empty_like(b.directions), np.empty_like(b.rhos)
    _move_points(b.directions, b.rhos, points, directions, rhos)
    return replace(b, rotations=rotations, centres=centres, lens=lens, zoom=zoom, directions=directions, rhos=rhos), points
