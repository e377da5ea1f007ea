"""The handoff stage: single files, packages for recipients, and cameras of others."""

from amberkeel.web.handoff import cameras, packages
from amberkeel.web.handoff.blueprint import blueprint

__all__ = ["blueprint", "cameras", "packages"]
