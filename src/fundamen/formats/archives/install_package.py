"""Read what an install package says of itself: an MSI, or a cabinet."""

import uuid

from fundamen.formats.archives.cabinet import read_cabinet
from fundamen.formats.archives.compound_file import CompoundFile
from fundamen.formats.byte_source import ByteSource
from fundamen.formats.cursor import StructureFindings
from fundamen.messages import say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Binary, BinaryKind, Format
from fundamen.model.display import printable
from fundamen.model.errors import NotExecutableError

_INSTALLER_DATABASE = uuid.UUID("000c1084-0000-0000-c000-000000000046").bytes_le  # the class of an MSI's root


def read_install_package(source: ByteSource, kind: Format) -> Binary:
    """Read an install package; damage is reported in ``problems``."""
    findings = StructureFindings()
    if kind is Format.CABINET:
        with findings.of("cabinet header"):
            read_cabinet(source)
    else:
        with findings.of("directory"):
            if (found := CompoundFile(source).root.class_id) != _INSTALLER_DATABASE:
                raise NotExecutableError(
                    what=say("formats.is-no-install-package", name=printable(source.name)),
                    why=say("formats.it-is-a-compound-file-of", UUID=uuid.UUID(bytes_le=found)),
                    do=say("formats.name-the-install-package-itself"),
                )
    return Binary(
        format=kind,
        kind=BinaryKind.PACKAGE,
        architecture=Architecture.ANY,
        name=None,
        needs=(),
        problems=findings.all_problems(),
        size=source.size,
    )
