"""The simulated shots of the demo production, by name."""

from collections.abc import Callable

from amberkeel.core.sim import gangway, lamp_room, sail_loft, shed_doors, slipway
from amberkeel.core.sim.drawn import SetEdge
from amberkeel.core.sim.render import Shot

_MODULES = {"SKL_010": slipway, "SKL_020": sail_loft, "SKL_040": shed_doors, "SKL_050": gangway, "SKL_070": lamp_room}

SHOTS: dict[str, Callable[..., Shot]] = {
    "SKL_010": slipway.slipway,
    "SKL_020": sail_loft.sail_loft,
    "SKL_040": shed_doors.shed_doors,
    "SKL_050": gangway.gangway,
    "SKL_070": lamp_room.lamp_room,
}

FACTS = {name: (m.FIRST_FRAME, m.FRAME_COUNT, m.SENSOR_WIDTH_MM) for name, m in _MODULES.items()}
"""First frame, number of frames, and sensor width in mm of each."""

EDGES: dict[str, Callable[[], list[SetEdge]]] = {"SKL_020": sail_loft.edges, "SKL_040": shed_doors.edges}
"""Edges of the set along which lines are drawn, of the shots that have them."""
