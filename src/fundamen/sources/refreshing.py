"""Prove the trusted sources again before a restoration draws on them."""

from collections.abc import Callable
from datetime import datetime

from fundamen.messages import say
from fundamen.model.errors import UnreadableError
from fundamen.sources.catalogue import Catalogue
from fundamen.sources.store import SourceStore


def proven_catalogues(store: SourceStore, note: Callable[[str], None], now: datetime) -> tuple[Catalogue, ...]:
    """The catalogues of all sources, proven this moment where the source is available.

    Of a source that is not, such as a disk that is not plugged in or a server without a network, what was proven last
    is used while its signatures hold; that is noted. The files of it that were fetched before lie with us.

    Raises:
        UntrustedError: the proof of a source failed.
    """
    catalogues = []
    for source in store.sources():
        try:
            catalogues.append(store.refresh(source))
        except UnreadableError as error:
            known = store.last_proven(source)
            if known is None or known.expires_at <= now:
                note(say("sources.the-source-is-left-out", name=source.name, why=error.why, do=error.do))
                continue
            until = f"{known.expires_at:%Y-%m-%d %H:%M} UTC"
            note(say("sources.the-source-cannot-be-reached-its", name=source.name, why=error.why, until=until))
            catalogues.append(known)
    return tuple(catalogues)
