"""The simulated shots of the demo production, by name."""

from collections.abc import Callable

from amberkeel.core.sim.gangway import gangway
from amberkeel.core.sim.lamp_room import lamp_room
from amberkeel.core.sim.render import Shot
from amberkeel.core.sim.slipway import slipway

SHOTS: dict[str, Callable[..., Shot]] = {"SKL_010": slipway, "SKL_050": gangway, "SKL_070": lamp_room}
