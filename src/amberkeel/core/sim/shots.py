"""The simulated shots of the demo production, by name."""

from collections.abc import Callable

from amberkeel.core.sim import (
    breakwater,
    gangway,
    lamp_room,
    launch,
    net_loft,
    quay,
    sail_loft,
    shed_doors,
    shingle,
    slipway,
)
from amberkeel.core.sim.drawn import SetEdge
from amberkeel.core.sim.take import Take

_TAKES = (
    slipway.slipway, sail_loft.sail_loft, breakwater.breakwater, shed_doors.shed_doors, gangway.gangway,
    quay.clean_pass, quay.live_pass, lamp_room.lamp_room, shingle.shingle, launch.launch,
    net_loft.net_loft,
)  # fmt: skip

SHOTS: dict[str, Take] = {take.name: take for take in _TAKES}

FACTS = {name: (take.first, take.count, take.sensor_width_mm) for name, take in SHOTS.items()}
"""First frame, number of frames, and sensor width in mm of each."""

EDGES: dict[str, Callable[[], list[SetEdge]]] = {"SKL_020": sail_loft.edges, "SKL_040": shed_doors.edges}
"""Edges of the set along which lines are drawn, of the shots that have them."""
