"""The ties stage: sets of a production, a shot's ties to one, and its alignment."""

from amberkeel.web.ties import sets, shown, tying
from amberkeel.web.ties.blueprint import blueprint

__all__ = ["blueprint", "sets", "shown", "tying"]
