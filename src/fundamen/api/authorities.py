"""Gather the authorities that verify files: the OS's package database, signatures, and the trusted sources."""

import os
from collections.abc import Callable
from datetime import datetime

from fundamen.evidence.authority import Authority
from fundamen.evidence.dpkg import DpkgAuthority
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.errors import FundamenError, UnreadableError
from fundamen.model.paths import HostPath


def authorities_for(
    home: HostPath,
    platform: Platform,
    now: datetime,
    note: Callable[[str], None],
    tell: Callable[[FundamenError], None],
    *,
    publishers: bool = True,
) -> list[Authority]:
    """All authorities for the machines of a platform; a source whose signatures have expired is left out.

    Args:
        home: the folder of our own state.
        platform: of the examined machine.
        now: this moment, UTC.
        note: is given a sentence on a source that is left out.
        tell: is given the error of sources that cannot be read; the trace goes on without them.
        publishers: whether publishers' signatures count too.
    """
    authorities: list[Authority] = [DpkgAuthority()]
    if platform is Platform.MACOS:
        from fundamen.evidence.code_signature import CodeSignatureAuthority  # noqa: PLC0415 - only for such a machine

        authorities.append(CodeSignatureAuthority())
    if platform is Platform.WINDOWS and publishers:
        from fundamen.evidence.publisher import PublisherAuthority  # noqa: PLC0415 - only for such a machine

        authorities.append(PublisherAuthority(now))
    if os.path.isdir(os.path.join(home, "sources")):
        from fundamen.evidence.catalogue import CatalogueAuthority  # noqa: PLC0415 - only where a source is trusted
        from fundamen.sources.store import SourceStore  # noqa: PLC0415

        try:
            catalogues = SourceStore(home).catalogues()
        except UnreadableError as error:  # a program can still be traced, only with fewer authorities
            tell(error)
            return authorities
        for catalogue in catalogues:
            if catalogue.expires_at <= now:
                note(say("api.the-source-has-expired-and-does", name=catalogue.source.name))
            else:
                authorities.append(CatalogueAuthority(catalogue.source.name, catalogue.packages_with))
    return authorities
