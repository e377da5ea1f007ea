"""A step of the focal length that takes the whole scene with it.

Another focal length goes with other angles between cameras and with other depths: seen from the first camera the scene
is stretched along its axis, and every camera looks where its axis is taken (the valley of the self-calibration problem;
Hartley and Zisserman 2004, chapter 19). Along that valley the cost hardly changes, but it is bent: a straight step of
one per cent is off by many times the noise, and an adjustment creeps. So what the focal length of a step brings along
is done exactly, as a stretch, and only the rest of the step is taken as it is. To first order nothing is changed, so
that it is a retraction of the same step (Absil et al. 2008, chapter 4).
"""

from typing import TYPE_CHECKING

import numpy as np
from numba import njit

from amberkeel.core.geometry.rotations import rotation_exp
from amberkeel.core.solve.projection import tangent

if TYPE_CHECKING:
    from amberkeel.core.solve.problem import Problem

TINY = 1e-5
"""Log stretch that derivatives are taken with."""


@njit(cache=True, nogil=True)
def _stretched(m, rho, away, axis, gain, out):
    """Fill `out` (4,) with a point's direction and inverse depth after a stretch.

    Parameters
    ----------
    m, rho : its direction (3,) and inverse depth. away : (3,) its anchor, from the stretch's origin. axis : (3,) unit.
    gain : of lengths along it. out : filled.
    """
    along = 0.0
    for a in range(3):
        out[a] = m[a] + rho * away[a]
        along += out[a] * axis[a]
    norm = 0.0
    for a in range(3):
        out[a] += (gain - 1.0) * along * axis[a] - rho * away[a]
        norm += out[a] * out[a]
    norm = np.sqrt(norm)
    for a in range(3):
        out[a] /= norm
    out[3] = rho / norm


@njit(cache=True, nogil=True)
def stretch_points(directions, rhos, anchors, origin, axis, step, steps, new_directions, new_rhos):
    """Fill points after a stretch and the rest of their steps.

    Parameters
    ----------
    directions, rhos, anchors : (P, 3), (P,), (P, 3), see `projection`. origin, axis : (3,) of the stretch, axis a unit
        vector. step : log stretch. steps : (P, 3) as for `move_points`, the stretch's own part among them.
    new_directions, new_rhos : filled.
    """
    basis, out, near, away, rest = np.empty((3, 2)), np.empty(4), np.empty(4), np.empty(3), np.empty(3)
    for p in range(len(rhos)):
        for a in range(3):
            away[a] = anchors[p, a] - origin[a]
        _stretched(directions[p], rhos[p], away, axis, np.exp(TINY), near)
        _stretched(directions[p], rhos[p], away, axis, np.exp(step), out)
        tangent(directions[p], basis)
        ahead = near[0] * directions[p, 0] + near[1] * directions[p, 1] + near[2] * directions[p, 2]
        for k in range(2):
            own = near[0] * basis[0, k] + near[1] * basis[1, k] + near[2] * basis[2, k]
            rest[k] = steps[p, k] - own / ahead / TINY * step
        rest[2] = steps[p, 2] - (near[3] / ahead - rhos[p]) / TINY * step
        tangent(out[:3], basis)
        norm = 0.0
        for a in range(3):
            value = out[a] + basis[a, 0] * rest[0] + basis[a, 1] * rest[1]
            new_directions[p, a] = value
            norm += value * value
        norm = np.sqrt(norm)
        for a in range(3):
            new_directions[p, a] /= norm
        new_rhos[p] = (out[3] + rest[2]) / norm


@njit(cache=True, nogil=True)
def stretched_points(directions, rhos, anchors, origin, axis, step, new_directions, new_rhos):
    """Fill points after a stretch alone; arguments as for `stretch_points`."""
    out, away = np.empty(4), np.empty(3)
    for p in range(len(rhos)):
        for a in range(3):
            away[a] = anchors[p, a] - origin[a]
        _stretched(directions[p], rhos[p], away, axis, np.exp(step), out)
        new_directions[p] = out[:3]
        new_rhos[p] = out[3]


@njit(cache=True, nogil=True)
def _turn_of(rotation, axis, gain, out):
    """Fill `out` (3,) with the turn in the camera's own frame that takes its view axis to where a stretch takes it."""
    view = np.ascontiguousarray(rotation[:, 2])
    along = view[0] * axis[0] + view[1] * axis[1] + view[2] * axis[2]
    to = view + (gain - 1.0) * along * axis
    to /= np.sqrt((to * to).sum())
    # In the camera's frame the old axis is (0, 0, 1).
    x, y, z = (rotation[:, 0] * to).sum(), (rotation[:, 1] * to).sum(), (rotation[:, 2] * to).sum()
    sine = np.sqrt(x * x + y * y)
    angle = np.arctan2(sine, z)
    share = angle / sine if sine > 1e-12 else 1.0
    out[0], out[1], out[2] = -y * share, x * share, 0.0


@njit(cache=True, nogil=True)
def stretch_cameras(rotations, centres, free, origin, axis, step, turns, shifts, new_rotations, new_centres):
    """Fill cameras after a stretch and the rest of their steps; degrees that are held stay.

    Parameters
    ----------
    rotations, centres : (F, 3, 3) world_from_camera, (F, 3). free : (F, 6) bool, turn and position. origin, axis : (3,)
        of the stretch. step : log stretch. turns, shifts : (F, 3) steps, the stretch's own part among them.
    new_rotations, new_centres : filled.
    """
    own, near = np.empty(3), np.empty(3)
    for f in range(len(rotations)):
        new_rotations[f] = rotations[f]
        if free[f, 0] and free[f, 1] and free[f, 2]:
            _turn_of(rotations[f], axis, np.exp(TINY), near)
            _turn_of(rotations[f], axis, np.exp(step), own)
            turned = rotations[f] @ rotation_exp(own)
            new_rotations[f] = turned @ rotation_exp(turns[f] - near / TINY * step)
        else:
            new_rotations[f] = rotations[f] @ rotation_exp(turns[f].copy())
        along = 0.0
        for a in range(3):
            along += (centres[f, a] - origin[a]) * axis[a]
        for a in range(3):
            new_centres[f, a] = centres[f, a] + shifts[f, a]
            if free[f, 3 + a]:
                new_centres[f, a] += (np.exp(step) - 1.0 - step) * along * axis[a]


@njit(cache=True, nogil=True)
def _stretch_cameras_alone(rotations, centres, origin, axis, gain):
    """Stretch cameras (F) in place by `gain` along an axis (3,) through an origin (3,)."""
    turn = np.empty(3)
    for f in range(len(rotations)):
        _turn_of(rotations[f], axis, gain, turn)
        rotations[f] = rotations[f] @ rotation_exp(turn)
        along = ((centres[f] - origin) * axis).sum()
        for a in range(3):
            centres[f, a] += (gain - 1.0) * along * axis[a]


def refocused(problem: "Problem", focal: float) -> "Problem":
    """Return a solved problem at another focal length, pixels, the whole scene stretched along with it; the picture of
    its first camera stays as it is but for the distortion.
    """
    out = problem.copied()
    first = problem.first_solved
    origin, axis = problem.centres[first].copy(), np.ascontiguousarray(problem.rotations[first][:, 2])
    gain = focal / problem.lens.focal
    points = problem.directions, problem.rhos, problem.anchors
    stretched_points(*points, origin, axis, np.log(gain), out.directions, out.rhos)
    _stretch_cameras_alone(out.rotations, out.centres, origin, axis, gain)
    out.lens = problem.lens.refocused(focal)
    return out
