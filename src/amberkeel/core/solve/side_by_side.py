"""Small adjustments tried side by side, a thread each.

With up to `FEW` measurements one thread does all of each compiled loop, so that several can run at once; with more the
loops take all cores themselves, and may not be started from two threads.
"""

from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import Future, ThreadPoolExecutor
from contextlib import contextmanager
from typing import TypeVar

from amberkeel.core.solve.arrays import FEW

THREADS = 2
"""How many run at once."""

One = TypeVar("One")
Result = TypeVar("Result")


def side_by_side(work: Callable[[One], Result], items: Iterable[One], measurements: int) -> list[Result]:
    """Return what `work` gives for each item, in their order.

    Parameters
    ----------
    work : changes nothing that another item's work reads. items : what it is done for. measurements : of each of the
        adjustments that it makes.
    """
    with ThreadPoolExecutor(THREADS if measurements <= FEW else 1) as pool:
        return list(pool.map(work, items))


@contextmanager
def beside(work: Callable[[], Result], measurements: int) -> Iterator[Future[Result]]:
    """Do some work on a thread of its own while the block runs, or after it where loops take all cores; yields what
    will have its result, or its error, at the end.

    Parameters
    ----------
    work : changes nothing that the block reads, and reads nothing that it changes. measurements : of each of the
        adjustments that are made.
    """
    if measurements <= FEW:
        with ThreadPoolExecutor(1) as pool:
            yield pool.submit(work)
    else:
        after: Future[Result] = Future()
        yield after
        after.set_result(work())
