"""Ask further sources for the faults of a trace: the system's archive, installation media."""

from collections.abc import Iterable, Iterator, Sequence
from typing import Protocol

from fundamen.model.architecture import Architecture
from fundamen.model.paths import MachinePath
from fundamen.sources.catalogue import Catalogue
from fundamen.trace.records import COMMAND, INSTALLED_FILE, OF_THE_SYSTEM, Trace


class OnDemand(Protocol):
    """Something that has packages for a need, and is asked only when there is one."""

    def catalogue_of(
        self, names: Iterable[str], paths: Iterable[MachinePath], architecture: Architecture, /
    ) -> Catalogue | None:
        """The packages that have files of some names, or own those at some paths; None where there is none.

        Raises:
            UntrustedError: a proof does not hold.
            UnreadableError: it cannot be read.
        """


_OF_NO_PACKAGE = {COMMAND, *OF_THE_SYSTEM}


def asked_of(on_demand: Sequence[OnDemand], name: str, path: MachinePath) -> Iterator[Catalogue]:
    """Catalogues that may have one file, for whatever processor it is. Raises: as ``asked_for``."""
    for each in on_demand:
        own = each.catalogue_of([name], [path], Architecture.ANY)
        if own is not None:
            yield own


def asked_for(on_demand: Sequence[OnDemand], traces: Iterable[Trace]) -> Iterator[Catalogue]:
    """Catalogues for the faults of traces, those of one architecture together; none where there are no faults.

    Raises:
        UntrustedError: a proof does not hold.
        UnreadableError: a medium cannot be read.
    """
    wanted: dict[Architecture, tuple[set[str], set[MachinePath]]] = {}
    for trace in traces:
        names, paths = wanted.setdefault(trace.architecture, (set(), set()))
        for fault in trace.faults:
            if fault.kind in _OF_NO_PACKAGE:
                continue
            if fault.kind != INSTALLED_FILE:  # that is of one package alone
                names.update(name.rpartition("/")[2] for name in fault.sought_as)
            paths.update(candidate.path for candidate in fault.searched if candidate.path.startswith("/"))
            paths.update([fault.path] if fault.path else [])
    for architecture, (names, paths) in wanted.items():
        for each in on_demand if names or paths else ():
            own = each.catalogue_of(names, paths, architecture)
            if own is not None:
                yield own
