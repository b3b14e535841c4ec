"""Prove the trusted sources anew before a restoration draws on them."""

from collections.abc import Callable

from fundamen.model.errors import UnreadableError
from fundamen.sources.store import Catalogue, SourceStore


def proven_catalogues(store: SourceStore, note: Callable[[str], None]) -> tuple[Catalogue, ...]:
    """The catalogues of all sources that are at hand, proven this moment.

    A source that is not there, such as a disk that is not plugged in, is noted and left out.

    Raises:
        UntrustedError: the proof of a source failed.
    """
    catalogues = []
    for source in store.sources():
        try:
            catalogues.append(store.refresh(source))
        except UnreadableError as error:
            note(f"The source {source.name} is left out: {error.why}. {error.do}")
    return tuple(catalogues)
