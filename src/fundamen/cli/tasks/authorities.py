"""Gather authorities for a command."""

from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from fundamen.api.authorities import authorities_for
from fundamen.cli.output import Output
from fundamen.evidence.authority import Authority
from fundamen.machine.file_bytes import open_ordinary
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath

if TYPE_CHECKING:
    from fundamen.evidence.publisher import PublisherAuthority

_MOST_CERTIFICATES = 64 << 20  # bytes


def authorities_at(
    home: HostPath, platform: Platform, now: datetime, output: Output, *, publishers: bool = True
) -> list[Authority]:
    """All authorities for the machines of a platform, as ``authorities_for`` gives them; notes go to the output."""
    return authorities_for(home, platform, now, output.note, output.tell, publishers=publishers)


def given_certificates(paths: Sequence[str], now: datetime) -> "PublisherAuthority":
    """The judge of publishers, with certificates and revocation lists of some host files to build chains with.

    Raises:
        UnreadableError: a file cannot be read, or holds none.
    """
    from fundamen.evidence.publisher import PublisherAuthority  # noqa: PLC0415 - it loads the library of cryptography
    from fundamen.formats.byte_source import MemoryBytes  # noqa: PLC0415
    from fundamen.formats.certificates.certificate_file import read_certificates  # noqa: PLC0415
    from fundamen.model.trust_store import StoredCertificate, StoreRole  # noqa: PLC0415

    given: list[StoredCertificate] = []
    lists: list[bytes] = []
    for path in paths:
        try:
            with open_ordinary(path) as file:
                held = read_certificates(MemoryBytes(file.read(_MOST_CERTIFICATES), path))
        except OSError as error:
            raise UnreadableError(
                what=say("cli.the-certificates-in-cannot-be-read", path=printable(path)),
                why=error.strerror or str(error),
                do=say("cli.name-a-file-of-certificates-or"),
            ) from error
        given += [StoredCertificate(der, StoreRole.ISSUER, path) for der in held.certificates]
        lists += held.revocation_lists
    return PublisherAuthority(now, given, lists)
