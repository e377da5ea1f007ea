"""Findings of what only the database knows, in the same form as those of a solve."""

from amberkeel.core.diagnose.finding import CALM, Finding


def calm(kind: str, text: str, tracks: tuple[int, ...] = ()) -> Finding:
    """Return a finding of which nothing needs be done."""
    return Finding(kind, CALM, 1.0, text, (), tracks)
