"""The world stage: the scene's coordinates, what stands in it, and whether it sticks."""

from amberkeel.web.world import datum, look, painting, scene, slip
from amberkeel.web.world.blueprint import blueprint

__all__ = ["blueprint", "datum", "look", "painting", "scene", "slip"]
