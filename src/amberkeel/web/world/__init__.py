"""The world stage: the scene's coordinates, what stands in it, and whether it sticks."""

from amberkeel.web.world import datum, drop, look, mesh, painting, probes, scene, slip
from amberkeel.web.world.blueprint import blueprint

__all__ = ["blueprint", "datum", "drop", "look", "mesh", "painting", "probes", "scene", "slip"]
