"""Put together who may vouch for files: the OS's package database, and the trusted sources."""

from datetime import datetime

from fundamen.cli.output import Output
from fundamen.evidence.authority import Authority
from fundamen.evidence.dpkg import DpkgAuthority
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath


def authorities_at(home: HostPath, platform: Platform, now: datetime, output: Output) -> list[Authority]:
    """All authorities at hand; a source whose signatures have expired does not speak, and that is said."""
    import os  # noqa: PLC0415 - beside the import it serves

    authorities: list[Authority] = [DpkgAuthority()]
    if platform is Platform.MACOS:
        from fundamen.evidence.code_signature import CodeSignatureAuthority  # noqa: PLC0415 - only for such a machine

        authorities.append(CodeSignatureAuthority())
    if os.path.isdir(os.path.join(home, "sources")):
        from fundamen.evidence.catalogue import CatalogueAuthority  # noqa: PLC0415 - only where a source is trusted
        from fundamen.sources.store import SourceStore  # noqa: PLC0415

        try:
            catalogues = SourceStore(home).catalogues()
        except UnreadableError as error:  # the program can still be traced, only with fewer witnesses
            output.tell(error)
            return authorities
        for catalogue in catalogues:
            if catalogue.expires_at <= now:
                output.note(
                    f"The source {catalogue.source.name} has expired and does not speak; see: fundamen sources list"
                )
            else:
                authorities.append(CatalogueAuthority(catalogue.source.name, catalogue.packages))
    return authorities
