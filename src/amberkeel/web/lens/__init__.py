"""The lens stage: lines that tell a lens, the camera's facts, and profiles."""

from amberkeel.web.lens import brought, camera, lines, profiles
from amberkeel.web.lens.blueprint import blueprint

__all__ = ["blueprint", "brought", "camera", "lines", "profiles"]
