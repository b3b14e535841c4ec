"""Tell what a file is by its first bytes, and read it if it is an executable of a known format."""

from fundamen.formats.byte_source import ByteSource
from fundamen.formats.unix.elf import MAGIC as ELF_MAGIC
from fundamen.formats.unix.elf import read_elf
from fundamen.messages import say
from fundamen.model.binary import Binary, Format
from fundamen.model.display import printable
from fundamen.model.errors import NotExecutableError

_PE_MAGIC = b"MZ"
_MACHO_MAGICS = {bytes.fromhex(each) for each in ("feedface", "feedfacf", "cefaedfe", "cffaedfe")}
_UNIVERSAL_MAGICS = {bytes.fromhex("cafebabe"), bytes.fromhex("cafebabf")}
_PACKAGE_MAGICS = {b"MSCF": Format.CABINET, bytes.fromhex("d0cf11e0"): Format.MSI}
_CLASS_MAGIC, _ZIP_MAGIC = bytes.fromhex("cafebabe"), b"PK\x03\x04"


def read_binary(source: ByteSource) -> Binary:
    """Read an executable file of whatever format; damage inside it is reported in its ``problems``.

    Raises:
        NotExecutableError: the file is no executable of a known format; the message says what it is instead.
        DamagedFileError: it begins like one, but too little of it is left to say more.
    """
    head = source.read_at(0, 4)
    if head == ELF_MAGIC:
        return read_elf(source)
    if head.startswith(_PE_MAGIC):
        from fundamen.formats.windows.pe import read_pe  # noqa: PLC0415 - a Linux program is read without it

        return read_pe(source)
    if head in _MACHO_MAGICS or head in _UNIVERSAL_MAGICS:
        from fundamen.formats.mac.macho import is_universal, read_macho  # noqa: PLC0415 - likewise

        if head in _MACHO_MAGICS or is_universal(source.read_at(0, 8)):
            return read_macho(source)
    if head.startswith((b"#!", b"\xef\xbb\xbf#")):
        from fundamen.formats.unix.script import read_script  # noqa: PLC0415 - likewise

        return read_script(source)
    if head in _PACKAGE_MAGICS:
        from fundamen.formats.archives.install_package import read_install_package  # noqa: PLC0415 - likewise

        return read_install_package(source, _PACKAGE_MAGICS[head])
    if head in {_CLASS_MAGIC, _ZIP_MAGIC}:
        from fundamen.formats.managed.java import read_archive, read_class  # noqa: PLC0415 - likewise

        classes = read_class(source) if head == _CLASS_MAGIC else read_archive(source)
        if classes is not None:
            return classes
    raise _not_executable(source, head)


def _not_executable(source: ByteSource, head: bytes) -> NotExecutableError:
    name = printable(source.name)
    if not head:
        return NotExecutableError(
            what=say("formats.is-empty", name=name),
            why=say("formats.it-has-no-bytes-so-it"),
            do=say("formats.restore-the-file-from-its-publisher"),
        )
    kind = (
        "text" if _looks_like_text(source.read_at(0, 512)) else say("formats.data-that-begins-with", head=head.hex(" "))
    )
    return NotExecutableError(
        what=say("formats.is-neither-a-program-nor-a", name=name),
        why=say("formats.it-is-not-an-elf-pe", kind=kind),
        do=say("formats.name-the-program-file-itself-a"),
    )


def _looks_like_text(data: bytes) -> bool:
    try:
        text = data[:-3].decode("utf-8") if len(data) > 3 else data.decode("utf-8")  # noqa: PLR2004 - a cut character
    except UnicodeDecodeError:
        return False
    return all(c.isprintable() or c in "\t\r\n\f" for c in text)
