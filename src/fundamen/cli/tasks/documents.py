"""Sheets and toolchains' catalogues that trusted sources carry, as they were last proven."""

import os
from collections.abc import Sequence

from fundamen.cli import options
from fundamen.cli.output import Output
from fundamen.machine.file_bytes import open_ordinary
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath
from fundamen.prerequisites.sheet import Sheet, read_carried_sheet, read_sheet
from fundamen.sources.catalogue import Source
from fundamen.sources.layout import MOST_DOCUMENT, DocumentKind, document_path
from fundamen.sources.store import SourceStore
from fundamen.toolchains.catalogue import Toolchain, read_toolchain


def carried_toolchains(output: Output) -> list[Toolchain]:
    """The toolchains' catalogues of all trusted sources."""
    return [
        read_toolchain(data, f"{name} of the source {source}")
        for (source, name), data in _carried_documents(DocumentKind.TOOLCHAIN, output).items()
    ]


def carried_names(output: Output) -> list[tuple[str, str]]:
    """(source, name) of every sheet that a trusted source carries."""
    return list(_carried_documents(DocumentKind.SHEET, output))


def carried_sheet(name: str, output: Output) -> Sheet:
    """A sheet that a trusted source carries, with those of the same source that it includes.

    Raises:
        UsageError: no source carries it, or it says what cannot be.
        UntrustedError: its source's signatures hold no longer.
    """
    carried = _carried_documents(DocumentKind.SHEET, output)
    source = next((source for source, each in carried if each in {name, f"{name}.toml"}), None)
    if source is None:
        listed = ", ".join(sorted(each for _, each in carried)) or "they carry none"
        raise UsageError(
            what=say("cli.the-sheet-cannot-be-checked", name=printable(name)),
            why=say("cli.no-trusted-source-carries-a-sheet"),
            do=say("cli.the-trusted-sources-sheets", listed=listed),
        )
    sheets = {each: data for (of, each), data in carried.items() if of == source}
    return read_carried_sheet(name if name in sheets else f"{name}.toml", sheets)


def sheets_to_publish(names: Sequence[str]) -> dict[str, bytes]:
    """The packager's sheets as a source carries them, each read first. Raises: UsageError, UnreadableError."""
    found = {}
    for name in names:
        read_sheet(HostPath(name))
        with open_ordinary(name) as file:
            data = file.read(MOST_DOCUMENT)
        found[document_path(DocumentKind.SHEET, os.path.basename(name))] = data
    return found


def _carried_documents(kind: DocumentKind, output: Output) -> dict[tuple[str, str], bytes]:
    """The documents of all sources whose signatures still hold."""
    store = SourceStore(options.home())
    found = store.documents(kind)
    for source in store.sources():
        if any(of == source.name for of, _ in found) and not _holds(store, source):
            output.note(f"The documents of {source.name} are left out: its signatures have expired. Refresh it.")
            found = {key: data for key, data in found.items() if key[0] != source.name}
    return found


def _holds(store: SourceStore, source: Source) -> bool:
    try:
        proven = store.last_proven(source)
    except UnreadableError:
        return False
    return proven is not None and proven.expires_at > options.now()
