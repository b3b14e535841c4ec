"""Share work out, in parcels; what comes of it is given in the order of the parcels.

Processes have all that this one knew when they were made, so nothing but parcels and results is handed over.
"""

import gc
import os
import signal
import sys
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import BrokenExecutor, Executor, Future
from enum import Enum, auto
from typing import Any, Generic, TypeVar

from fundamen.model.errors import UnreadableError

_Parcel = TypeVar("_Parcel")
_Result = TypeVar("_Result")

_work: list[Callable[[Any], Any]] = []  # of a process that was made to work


class Where(Enum):
    """Where work is done."""

    HERE = auto()  # one parcel after another, as the results are asked for
    THREADS = auto()  # which help where work is outside of Python for the most part
    PROCESSES = auto()  # only where ``can_fork`` says so


class Workers(Generic[_Parcel, _Result]):
    """Do one kind of work on many parcels, as many at a time as there are processors. Used as a context.

    Nothing is begun any more once the context is left; what is in work by then is waited for.
    """

    def __init__(self, work: Callable[[_Parcel], _Result], where: Where) -> None:
        """Make them.

        Args:
            work: is given one parcel. For processes, parcels, results and errors must be made to be handed over.
            where: it is done.
        """
        self._work = work
        self._where = where
        self._pool: Executor | None = None

    def __enter__(self) -> "Workers[_Parcel, _Result]":
        if self._where is Where.PROCESSES:
            from concurrent.futures import ProcessPoolExecutor  # noqa: PLC0415 - little work needs none
            from multiprocessing import get_context  # noqa: PLC0415

            context = get_context("fork")
            self._pool = ProcessPoolExecutor(os.cpu_count(), context, initializer=_begin, initargs=(self._work,))
        elif self._where is Where.THREADS:
            from concurrent.futures import ThreadPoolExecutor  # noqa: PLC0415

            self._pool = ThreadPoolExecutor(os.cpu_count())
        return self

    def __exit__(self, *_how: object) -> None:
        if self._pool is not None:
            self._pool.shutdown(cancel_futures=True)

    def begin(self, parcels: Iterable[_Parcel]) -> Iterator[_Result]:
        """Begin work on some parcels, all of which are taken, and give what comes of each; what it raises is raised.

        Raises:
            UnreadableError: a process was ended from outside; also as the results are gone through.
        """
        if self._pool is None:
            return map(self._work, list(parcels))
        work = self._work if self._where is Where.THREADS else _do
        try:
            return _results([self._pool.submit(work, parcel) for parcel in parcels])
        except BrokenExecutor as error:
            raise _ended() from error


def can_fork() -> bool:
    """Whether processes can be made that know all that this one knows, and more than one can work at a time.

    Only on Linux: libraries of macOS do not bear it. Source: Python's library reference, "multiprocessing".
    """
    return (os.cpu_count() or 1) > 1 and sys.platform == "linux"


def _results(under_way: "list[Future[_Result]]") -> Iterator[_Result]:
    under_way.reverse()
    try:
        while under_way:
            yield under_way.pop().result()
    except BrokenExecutor as error:
        raise _ended() from error


def _ended() -> UnreadableError:
    return UnreadableError(
        what="The work was not finished",
        why="a process that had a part in it was ended from outside, perhaps for want of memory",
        do="Do it again; what was read by then is remembered.",
    )


def _begin(work: Callable[[Any], Any]) -> None:
    """Set a process up: Ctrl-C is for the one that puts together."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    gc.freeze()  # what this process was born with is not looked through, and stays shared
    _work.append(work)


def _do(parcel: Any) -> Any:  # noqa: ANN401 - whatever the work takes and gives
    return _work[-1](parcel)
