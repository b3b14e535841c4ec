"""Share work out, in parcels; what comes of it is given in the order of the parcels.

Processes have all that this one knew when they were made, so nothing but parcels and results is handed over.
"""

import gc
import os
import signal
import sys
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from enum import Enum, auto
from functools import partial
from itertools import chain
from typing import TYPE_CHECKING, Any, Self, TypeVar

from fundamen.messages import say
from fundamen.model.errors import UnreadableError

if TYPE_CHECKING:
    from concurrent.futures import Executor, Future

_Parcel = TypeVar("_Parcel")
_Result = TypeVar("_Result")

_AHEAD = 6  # parcels that are done ahead of what is taken

_works: list[Callable[[Any], Any]] = []  # of a process that was made to work


class Where(Enum):
    """Where work is done."""

    HERE = auto()  # one parcel after another, as the results are asked for
    THREADS = auto()  # which help where work is outside of Python for the most part
    PROCESSES = auto()  # only where ``can_fork`` says so


class Workers:
    """Do some kinds of work on many parcels, as many at a time as there are processors. Used as a context.

    Nothing is begun any more once the context is left; what is in work by then is waited for.
    """

    def __init__(self, where: Where, *works: Callable[[Any], Any]) -> None:
        """Make them.

        Args:
            where: it is done.
            works: each is given one parcel. For processes, parcels, results and errors must be made to be handed over.
        """
        self._works = works
        self._where = where
        self._pool: Executor | None = None

    def __enter__(self) -> Self:
        if self._where is Where.PROCESSES:
            from concurrent.futures import ProcessPoolExecutor  # noqa: PLC0415 - little work needs none
            from multiprocessing import get_context  # noqa: PLC0415

            context = get_context("fork")
            self._pool = ProcessPoolExecutor(os.cpu_count(), context, initializer=_begin, initargs=self._works)
        elif self._where is Where.THREADS:
            from concurrent.futures import ThreadPoolExecutor  # noqa: PLC0415

            self._pool = ThreadPoolExecutor(os.cpu_count())
        return self

    def __exit__(self, *_how: object) -> None:
        if self._pool is not None:
            self._pool.shutdown(cancel_futures=True)

    def begin(self, work: Callable[[_Parcel], _Result], parcels: Iterable[_Parcel]) -> Iterator[_Result]:
        """Begin one of the works on some parcels, all of which are taken, and give what comes of each.

        Raises:
            UnreadableError: a process was ended from outside; also as the results are gone through, which raises
                what the work raises as well.
        """
        if self._pool is None:
            return map(work, list(parcels))
        if self._where is Where.PROCESSES:
            work = partial(_do, self._works.index(work))
        from concurrent.futures import BrokenExecutor  # noqa: PLC0415 - little work needs none of it

        try:
            return _results([self._pool.submit(work, parcel) for parcel in parcels])
        except BrokenExecutor as error:
            raise end_error() from error

    def begin_as_taken(self, work: Callable[[_Parcel], _Result], parcels: Iterable[_Parcel]) -> Iterator[_Result]:
        """The same, but only some parcels are done ahead of what is taken, so that memory stays as it is."""
        ahead = deque[Iterator[_Result]]()
        for parcel in parcels:
            ahead.append(self.begin(work, [parcel]))
            if len(ahead) > _AHEAD:
                yield next(ahead.popleft())
        yield from chain.from_iterable(ahead)


def can_fork() -> bool:
    """Whether processes can be made that know all that this one knows, and more than one can work at a time.

    Only on Linux: libraries of macOS do not bear it. Source: Python's library reference, "multiprocessing".
    """
    return (os.cpu_count() or 1) > 1 and sys.platform == "linux"


def _results(under_way: "list[Future[_Result]]") -> Iterator[_Result]:
    from concurrent.futures import BrokenExecutor  # noqa: PLC0415 - likewise

    under_way.reverse()
    try:
        while under_way:
            yield under_way.pop().result()
    except BrokenExecutor as error:
        raise end_error() from error


def end_error() -> UnreadableError:
    """The error for a process that was ended from outside while it worked."""
    return UnreadableError(
        what=say("machine.the-work-was-not-finished"),
        why=say("machine.a-process-that-had-a-part"),
        do=say("machine.do-it-again-with-more-memory"),
    )


def _begin(*works: Callable[[Any], Any]) -> None:
    """Set a process up: Ctrl-C is for the one that puts together."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    gc.freeze()  # what this process was born with is not looked through, and stays shared
    _works[:] = works


def _do(place: int, parcel: Any) -> Any:  # noqa: ANN401 - whatever the work takes and gives
    return _works[place](parcel)
