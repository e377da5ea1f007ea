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


class AtFrame(str):
    """Words of progress with the frame that the work has come to, which a page may show meanwhile.

    Attributes
    ----------
    frame : its number. phase : the words without it.
    """

    frame: int
    phase: str

    def __new__(cls, phase: str, frame: int) -> "AtFrame":
        """Return the words "phase, frame N".

        Parameters
        ----------
        phase : what is being done. frame : the number that it has come to.
        """
        made = super().__new__(cls, f"{phase}, frame {frame}")
        made.phase, made.frame = phase, frame
        return made


def phase_of(doing: str) -> str:
    """Return which part of the work words of progress tell of, without the frame that it has come to."""
    return doing.phase if isinstance(doing, AtFrame) else doing.split(",")[0].rstrip("0123456789 ")
