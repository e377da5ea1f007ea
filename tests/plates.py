"""The simulated shots that tests use, at a small size, and their plates as files, rendered once a run."""

from dataclasses import replace
from functools import cache
from pathlib import Path

from amberkeel.core.pictures.write import write_png
from amberkeel.core.sim.breakwater import breakwater
from amberkeel.core.sim.gangway import gangway
from amberkeel.core.sim.launch import launch
from amberkeel.core.sim.net_loft import net_loft
from amberkeel.core.sim.quay import Carried, carried, clean_pass, live_pass
from amberkeel.core.sim.render import Shot, render_all
from amberkeel.core.sim.sail_loft import sail_loft
from amberkeel.core.sim.shed_doors import shed_doors
from amberkeel.core.sim.slipway import slipway

SIZE = WIDTH, HEIGHT = 640, 360


def _every(shot: Shot, step: int) -> Shot:
    """A shot with some of its frames: in fewer that follow each other the camera would hardly move."""
    return replace(shot, frames=shot.frames[::step])


@cache
def crate() -> Carried:
    """A crate carried past a camera that walks, with the truth."""
    return carried(True, *SIZE, frames=20, samples=2)


SHOTS = {
    "slipway": lambda: slipway(*SIZE, 40, samples=4),
    "loft": lambda: sail_loft(*SIZE, frames=20, samples=2),
    "pan": lambda: _every(breakwater(*SIZE, samples=2), 3),
    "doors": lambda: _every(shed_doors(*SIZE, samples=2), 4),
    "run": lambda: gangway(*SIZE, frames=30, samples=4),
    "clean": lambda: clean_pass(*SIZE, frames=20, samples=2),
    "live": lambda: live_pass(*SIZE, frames=20, samples=2),
    "boat": lambda: launch(*SIZE, frames=30, samples=2),
    "crate": lambda: crate().shot,
    "bare": lambda: _every(net_loft(*SIZE, samples=2, grain=2.0), 3),
}
"""What makes each of them, by its name."""


@cache
def simulated(name: str) -> Shot:
    """The shot of a name."""
    return SHOTS[name]()


def rendered(once, name: str) -> Path:
    """The folder with a shot's plate, and mattes of what moves: plate/ and mattes/, numbered on from its first frame.

    `once` is the fixture of that name.
    """

    def make(folder: Path) -> Path:
        shot = simulated(name)
        for part in ("plate", "mattes"):
            (folder / part).mkdir()
        for frame, (_, picture, matte) in enumerate(render_all(shot), int(shot.frames[0])):
            write_png(folder / "plate" / f"skl.{frame:04d}.png", picture)
            write_png(folder / "mattes" / f"matte.{frame:04d}.png", matte)
        return folder

    return once(name, make)
