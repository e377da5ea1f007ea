"""The lens stage: lines that tell a lens, the camera's facts, and profiles."""

from amberkeel.web.lens import camera, lines, profiles
from amberkeel.web.lens.blueprint import blueprint

__all__ = ["blueprint", "camera", "lines", "profiles"]
