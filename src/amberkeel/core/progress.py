"""Progress of long computations, reported through a callback."""

from collections.abc import Callable

Progress = Callable[[float, str], None]
"""Called with the share done (0 to 1) and what is being done. It may raise `Cancelled` to stop the work."""


def silent(share: float, doing: str) -> None:
    """Report to nobody."""


def span(progress: Progress, start: float, stop: float) -> Progress:
    """Return a callback whose 0 to 1 covers `start` to `stop` of `progress`.

    Parameters
    ----------
    progress : the callback. start, stop : shares of it, 0 to 1.
    """

    def report(share: float, doing: str) -> None:
        progress(start + (stop - start) * share, doing)

    return report


def phase_of(doing: str) -> str:
    """Return which part of the work words of progress tell of, without the frame that it has come to."""
    return doing.split(",")[0].rstrip("0123456789 ")
