"""What the operating system's archive has for the faults of a trace, beside the trusted sources."""

from collections.abc import Iterable, Iterator

from fundamen.model.paths import MachinePath
from fundamen.sources.os_archive import OsArchive
from fundamen.sources.store import Catalogue
from fundamen.trace.records import Trace


def catalogues_with(archive: OsArchive | None, catalogues: Iterable[Catalogue], trace: Trace) -> Iterator[Catalogue]:
    """The catalogues of the trusted sources, and the packages of the archive that own what is at fault.

    Raises:
        UntrustedError: the archive's proofs do not hold.
    """
    yield from catalogues
    if archive is None or not trace.faults:
        return
    names, paths = set[str](), set[MachinePath]()
    for fault in trace.faults:
        names |= {name.rpartition("/")[2] for name in fault.sought_as}
        paths |= {candidate.path for candidate in fault.searched if candidate.path.startswith("/")}
        paths |= {fault.path} if fault.path else set()
    own = archive.catalogue_of(names, paths, trace.architecture)
    if own is not None:
        yield own
