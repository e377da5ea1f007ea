"""The plate stage: intake, proxies and the tracking copy."""

from amberkeel.web.plate import copy, files, frames, intake
from amberkeel.web.plate.blueprint import blueprint

__all__ = ["blueprint", "copy", "files", "frames", "intake"]
