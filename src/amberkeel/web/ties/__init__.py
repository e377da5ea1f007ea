"""The ties stage: sets of a production, a shot's ties to one, its alignment, and its bodies."""

from amberkeel.web.ties import bodies, seeking, sets, shown, tying
from amberkeel.web.ties.blueprint import blueprint

__all__ = ["blueprint", "bodies", "seeking", "sets", "shown", "tying"]
