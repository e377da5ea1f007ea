"""The simulated shots of the demo production, by name."""

from collections.abc import Callable

from amberkeel.core.sim import gangway, lamp_room, slipway
from amberkeel.core.sim.render import Shot

SHOTS: dict[str, Callable[..., Shot]] = {"SKL_010": slipway.slipway, "SKL_050": gangway.gangway, "SKL_070": lamp_room.lamp_room}

FACTS = {name: (m.FIRST_FRAME, m.FRAME_COUNT, m.SENSOR_WIDTH_MM) for name, m in (("SKL_010", slipway), ("SKL_050", gangway), ("SKL_070", lamp_room))}
"""First frame, number of frames, and sensor width in mm of each."""
