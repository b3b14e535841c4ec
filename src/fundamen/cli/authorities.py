"""Put together who may vouch for files: the OS's package database, and the trusted sources."""

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from fundamen.cli.output import Output
from fundamen.evidence.authority import Authority
from fundamen.evidence.dpkg import DpkgAuthority
from fundamen.machine.file_bytes import open_ordinary
from fundamen.model.architecture import Platform
from fundamen.model.display import shown
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath

if TYPE_CHECKING:
    from fundamen.evidence.publisher import PublisherAuthority

_MOST_CERTIFICATES = 64 << 20  # bytes


def authorities_at(
    home: HostPath, platform: Platform, now: datetime, output: Output, *, publishers: bool = True
) -> list[Authority]:
    """All authorities at hand; a source whose signatures have expired does not speak, and that is said.

    Args:
        home: the folder of our own state.
        platform: of the machine that is examined.
        now: this moment.
        output: for what is to be said about them.
        publishers: whether publishers' signatures speak too.
    """
    import os  # noqa: PLC0415 - beside the import it serves

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
        except UnreadableError as error:  # the program can still be traced, only with fewer witnesses
            output.tell(error)
            return authorities
        for catalogue in catalogues:
            if catalogue.expires_at <= now:
                output.note(
                    f"The source {catalogue.source.name} has expired and does not speak; see: fundamen sources list"
                )
            else:
                authorities.append(CatalogueAuthority(catalogue.source.name, catalogue.packages_with))
    return authorities


def given_certificates(paths: Sequence[str], now: datetime) -> "PublisherAuthority":
    """Whoever judges publishers, with the certificates and revocation lists of some host files to build chains with.

    Raises:
        UnreadableError: a file cannot be read, or holds none.
    """
    from fundamen.evidence.publisher import PublisherAuthority  # noqa: PLC0415 - it loads the library of cryptography
    from fundamen.formats.byte_source import MemoryBytes  # noqa: PLC0415
    from fundamen.formats.certificate_file import read_certificates  # noqa: PLC0415
    from fundamen.model.trust_store import StoredCertificate, StoreRole  # noqa: PLC0415

    given: list[StoredCertificate] = []
    lists: list[bytes] = []
    for path in paths:
        try:
            with open_ordinary(path) as file:
                held = read_certificates(MemoryBytes(file.read(_MOST_CERTIFICATES), path))
        except OSError as error:
            raise UnreadableError(
                what=f"The certificates in {shown(path)} cannot be read",
                why=error.strerror or str(error),
                do="Name a file of certificates or revocation lists.",
            ) from error
        given += [StoredCertificate(der, StoreRole.ISSUER, path) for der in held.certificates]
        lists += held.revocation_lists
    return PublisherAuthority(now, given, lists)
