"""The tracks stage."""

from amberkeel.web.tracks import by_hand, changes, features, tables
from amberkeel.web.tracks.blueprint import blueprint

__all__ = ["blueprint", "by_hand", "changes", "features", "tables"]
