"""The simulated shots of the demo production, by name."""

from collections.abc import Callable

from amberkeel.core.sim import breakwater, gangway, lamp_room, launch, quay, sail_loft, shed_doors, shingle, slipway
from amberkeel.core.sim.drawn import SetEdge
from amberkeel.core.sim.render import Shot

_MODULES = {
    "SKL_010": slipway,
    "SKL_020": sail_loft,
    "SKL_030": breakwater,
    "SKL_040": shed_doors,
    "SKL_050": gangway,
    "SKL_070": lamp_room,
    "SKL_080": shingle,
    "SKL_090": launch,
}

SHOTS: dict[str, Callable[..., Shot]] = {
    "SKL_010": slipway.slipway,
    "SKL_020": sail_loft.sail_loft,
    "SKL_030": breakwater.breakwater,
    "SKL_040": shed_doors.shed_doors,
    "SKL_050": gangway.gangway,
    "SKL_060": quay.clean_pass,
    "SKL_061": quay.live_pass,
    "SKL_070": lamp_room.lamp_room,
    "SKL_080": shingle.shingle,
    "SKL_090": launch.launch,
}

FACTS = {name: (m.FIRST_FRAME, m.FRAME_COUNT, m.SENSOR_WIDTH_MM) for name, m in _MODULES.items()} | {
    "SKL_060": (quay.CLEAN_FIRST, quay.CLEAN_COUNT, quay.SENSOR_WIDTH_MM),
    "SKL_061": (quay.LIVE_FIRST, quay.LIVE_COUNT, quay.SENSOR_WIDTH_MM),
}
"""First frame, number of frames, and sensor width in mm of each."""

EDGES: dict[str, Callable[[], list[SetEdge]]] = {"SKL_020": sail_loft.edges, "SKL_040": shed_doors.edges}
"""Edges of the set along which lines are drawn, of the shots that have them."""
