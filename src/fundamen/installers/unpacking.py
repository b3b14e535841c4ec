"""Unpack a package into a new folder with single settings changed; the package itself is only read.

Guarantees: the folder is there whole, or not at all; nothing that is there already is touched; no path leads out.
"""

import os
import shutil
from collections.abc import Sequence
from datetime import datetime

import msgspec

from fundamen.formats.archives.container import ContainerKind, find_container
from fundamen.formats.archives.packed import PackedFile, Readable
from fundamen.formats.byte_source import ByteSource
from fundamen.formats.settings.editing import find_value, format_of, with_value
from fundamen.formats.settings.setting import Key
from fundamen.installers.coverage import Cover, catalogues_over, cover_of
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath

_PIECE = 1 << 20
_CATALOGUE = ".cat"  # how signed catalogues end
_MOST_SETTINGS = 16 << 20  # bytes of a settings file
_SPARE = 64 << 20  # bytes of a disk that are left free


class Edit(msgspec.Struct, frozen=True):
    """One setting that is to be changed."""

    file: str  # in the package
    key: Key
    value: str


class Edited(msgspec.Struct, frozen=True):
    """A setting that was changed."""

    edit: Edit
    before: str | None  # None: it was not there


class UnpackedCopy(msgspec.Struct, frozen=True):
    """A package that was unpacked."""

    folder: HostPath
    files: int
    size: int  # bytes
    edited: tuple[Edited, ...]
    left_out: tuple[str, ...]  # links, which are not made
    cover: Cover  # of the package, which does not cover the copy
    uncovered: dict[str, str] = {}  # changed files, by the signed catalogue in the package that no longer covers them


def unpack_changed(source: ByteSource, folder: HostPath, edits: Sequence[Edit], now: datetime) -> UnpackedCopy:
    """Unpack a package.

    Raises:
        UsageError: the folder is there, the package is none that is unpacked, or has no such setting's file.
        UnreadableError: it is damaged.
        OSError: the folder cannot be written.
    """
    container = find_container(source)
    if container is None or container.kind is ContainerKind.MSI:
        why = (
            say("installers.it-is-no-package-that-is")
            if container is None
            else say("installers.an-msi-is-overruled-by-its")
        )
        do = (
            say("installers.fundamen-inspect", name=printable(source.name))
            if container is None
            else say("installers.use-set-name-value-instead")
        )
        raise UsageError(say("installers.is-not-unpacked", name=printable(source.name)), why, do)
    if os.path.lexists(folder):
        raise UsageError(
            say("installers.nothing-is-unpacked-to", folder=printable(folder)),
            say("installers.it-is-there-already"),
            say("installers.name-a-new-folder"),
        )
    staged = HostPath(f"{folder}.unpacking")
    os.mkdir(staged)
    try:
        copy = _Unpacking(staged, edits)
        for packed, data in container.unpack():
            copy.add(packed, data)
        done = copy.finish(folder, source.name, cover_of(source, now))
        os.rename(staged, folder)
    except BaseException:
        shutil.rmtree(staged, ignore_errors=True)
        raise
    return done


class _Unpacking:
    def __init__(self, staged: HostPath, edits: Sequence[Edit]) -> None:
        self._staged = staged
        self._edits = {edit.file: [other for other in edits if other.file == edit.file] for edit in edits}
        self._edited: list[Edited] = []
        self._originals: dict[str, bytes] = {}
        self._catalogues: list[str] = []
        self._left_out: list[str] = []
        self._files = self._size = 0

    def add(self, packed: PackedFile, data: Readable) -> None:
        """Write one file."""
        if packed.link or packed.same_as:
            self._left_out.append(packed.path)
            return
        status = os.statvfs(self._staged) if hasattr(os, "statvfs") else None
        if status is not None and packed.size + _SPARE > status.f_bavail * status.f_frsize:
            raise UnreadableError(
                say("installers.is-not-unpacked", name=printable(packed.path)),
                say("installers.the-disk-would-be-full"),
                say("installers.make-room-or-name-a-folder"),
            )
        path = os.path.join(self._staged, *packed.path.split("/"))
        os.makedirs(os.path.dirname(path), exist_ok=True)
        with open(path, "xb") as file:
            if packed.path in self._edits:
                self._originals[packed.path] = data.read(_MOST_SETTINGS)
                file.write(self._change_settings(packed.path, self._originals[packed.path]))
            else:
                while piece := data.read(_PIECE):
                    file.write(piece)
            self._size += file.tell()
        if packed.path.lower().endswith(_CATALOGUE) and packed.size <= _MOST_SETTINGS:
            self._catalogues.append(packed.path)
        os.chmod(path, packed.mode & 0o777 | 0o600)
        self._files += 1

    def _change_settings(self, name: str, content: bytes) -> bytes:
        form = format_of(name)
        if form is None:
            raise UsageError(
                say("installers.is-not-changed", name=printable(name)),
                say("installers.its-name-does-not-tell-how"),
                say("installers.change-it-by-hand-in-the"),
            )
        for edit in self._edits[name]:
            before = find_value(content, form, edit.key, name)
            content = with_value(content, form, edit.key, edit.value, name)
            self._edited.append(Edited(edit, None if before is None else str(before.value)))
        return content

    def _read(self, path: str) -> bytes:
        with open(os.path.join(self._staged, *path.split("/")), "rb") as file:
            return file.read(_MOST_SETTINGS)

    def finish(self, folder: HostPath, name: str, cover: Cover) -> UnpackedCopy:
        """The result. Raises: UsageError: a settings file that was to be changed is not in the package."""
        done = {each.edit.file for each in self._edited}
        if missing := [file for file in self._edits if file not in done]:
            raise UsageError(
                what=say("installers.is-not-unpacked", name=printable(name)),
                why=say("installers.there-is-no-in-it", missing=printable(missing[0])),
                do=say("installers.see-what-is-in-it-fundamen", name=printable(name)),
            )
        uncovered = catalogues_over(self._originals, ((path, self._read(path)) for path in self._catalogues))
        return UnpackedCopy(
            folder, self._files, self._size, tuple(self._edited), tuple(self._left_out), cover, uncovered
        )
