"""Camera moves: smooth paths through keys, with the wander of a hand-held camera."""

from dataclasses import dataclass

import numpy as np
from scipy.interpolate import CubicSpline

from amberkeel.core.geometry.rotations import look_at


@dataclass(frozen=True)
class Wander:
    """Band-limited noise in six channels, a sum of sines with random phases.

    Attributes
    ----------
    phase, rate : (6, K) phases in radians and angular rates in radians a frame.
    gain : (6, K) amplitudes; three of position in metres, three of aim in radians.
    """

    phase: np.ndarray
    rate: np.ndarray
    gain: np.ndarray

    def at(self, t: np.ndarray) -> np.ndarray:
        """Return the six channels (N, 6) at frame times `t` (N,)."""
        angle = self.rate[None] * np.asarray(t, float)[:, None, None] + self.phase[None]
        return (self.gain[None] * np.sin(angle)).sum(-1)


def hand_held(rng: np.random.Generator, position_m: float = 0.02, aim_rad: float = 0.006, fps: float = 24.0) -> Wander:
    """Return the wander of a hand-held camera: 0.3 to 4 cycles a second, falling with frequency.

    Parameters
    ----------
    rng : of the wander. position_m : one sigma, metres. aim_rad : one sigma, radians. fps : frames a second.
    """
    cycles = np.geomspace(0.3, 4.0, 9)
    gain = cycles**-0.9
    gain = gain / np.sqrt((gain**2).sum() / 2.0)
    scale = np.array([position_m] * 3 + [aim_rad, aim_rad, 0.6 * aim_rad])
    rate = 2.0 * np.pi * cycles / fps * rng.uniform(0.85, 1.15, (6, 9))
    return Wander(rng.uniform(0, 2 * np.pi, (6, 9)), rate, scale[:, None] * gain[None])


@dataclass(frozen=True)
class Jolt:
    """A blow to the camera: a few swings under a bell, or one push away and back.

    Attributes
    ----------
    frame : frame time of its middle. width : of the bell, frames (one sigma). period : of a swing, frames.
    aim : (3,) largest turn along x and y and of roll, radians. shift : (3,) largest displacement, metres.
    power : of the bell: 2 a Gaussian, more a flatter top with steeper sides.
    """

    frame: float
    width: float
    period: float
    aim: tuple[float, float, float]
    shift: tuple[float, float, float] = (0.0, 0.0, 0.0)
    power: int = 2

    def at(self, t: np.ndarray) -> np.ndarray:
        """Return the six channels (N, 6) at frame times `t` (N,), as a wander's."""
        away = np.asarray(t, float) - self.frame
        swing = np.exp(-0.5 * np.abs(away / self.width) ** self.power) * np.cos(2.0 * np.pi * away / self.period)
        return swing[:, None] * np.array([*self.shift, *self.aim])


@dataclass(frozen=True)
class Move:
    """A camera move through keys, seen at any (fractional) frame.

    Attributes
    ----------
    key_frames : (K,) frame numbers of the keys.
    key_positions, key_targets : (K, 3) camera centre and what it looks at, metres.
    wander : hand-held noise, or None for a rigid move.
    jolts : blows to the camera.
    """

    key_frames: np.ndarray
    key_positions: np.ndarray
    key_targets: np.ndarray
    wander: Wander | None = None
    jolts: tuple[Jolt, ...] = ()

    def poses(self, t: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        """Return positions (N, 3) and ``world_from_camera`` (N, 3, 3) at frame times `t` (N,)."""
        t = np.asarray(t, float)
        position = CubicSpline(self.key_frames, self.key_positions)(t)
        target = CubicSpline(self.key_frames, self.key_targets)(t)
        noise = self.wander.at(t) if self.wander else np.zeros((len(t), 6))
        noise = noise + sum((j.at(t) for j in self.jolts), np.zeros((len(t), 6)))
        position = position + noise[:, :3]
        reach = np.linalg.norm(target - position, axis=1, keepdims=True)
        target = target + noise[:, [3, 4, 3]] * np.array([1.0, 1.0, -0.5]) * reach
        rotations = [look_at(p, q, roll) for p, q, roll in zip(position, target, noise[:, 5])]
        return position, np.array(rotations)
