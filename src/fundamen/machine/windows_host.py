"""This very host, where it runs Windows.

Paths are the host's own. A 32-bit Python on a 64-bit system would be shown the folder for the other word size in place
of System32; it is sent through the alias Sysnative, so that every path means what it says. Source: Microsoft's "File
System Redirector".
"""

import ntpath
import os
import sys
from collections.abc import Mapping
from contextlib import AbstractContextManager

from fundamen.formats.byte_source import ByteSource
from fundamen.machine.machine import Entry, Machine
from fundamen.machine.posix import list_on_host, looked_at, open_on_host
from fundamen.machine.registry import Registry
from fundamen.machine.registry_opening import RegistryWhenAsked
from fundamen.model.architecture import Platform
from fundamen.model.paths import HostPath, MachinePath

_NARROWEST = 2**32  # what fits into a pointer of a 32-bit Python
_SYSTEM, _ALIAS = "C:\\Windows\\System32", "C:\\Windows\\Sysnative"


class WindowsHost(Machine):
    """The host as its own programs see it."""

    platform = Platform.WINDOWS
    paths = ntpath
    is_live = True

    def __init__(self, environment: Mapping[str, str], current: HostPath) -> None:
        """Make the machine.

        Args:
            environment: what its programs are started with.
            current: the folder that relative paths count from.
        """
        super().__init__()
        self.title = "this host"
        self.root = HostPath("C:\\")
        self.environment = {name.upper(): value for name, value in environment.items()}
        self._current = current
        self._is_redirected = sys.maxsize < _NARROWEST and "PROCESSOR_ARCHITEW6432" in self.environment
        self.registry = RegistryWhenAsked(_live_registry)

    def look(self, path: MachinePath) -> Entry:
        """Tell what stands at a path."""
        return looked_at(self, path)

    def names(self, folder: MachinePath) -> tuple[str, ...]:
        """The names in a folder, sorted; empty where there is no such folder."""
        return list_on_host(self, folder)

    def real(self, path: MachinePath) -> MachinePath:
        """The path with all links followed, as the file system spells it."""
        followed = os.path.realpath(self.host_path(path))
        return MachinePath(_replace_folder(followed, _ALIAS, _SYSTEM) if self._is_redirected else followed)

    def open(self, path: MachinePath) -> AbstractContextManager[ByteSource]:
        """Open a file for reading by offset."""
        return open_on_host(self, path)

    def host_path(self, path: MachinePath) -> HostPath:
        """The same path, past the redirection of a 32-bit Python."""
        return HostPath(_replace_folder(path, _SYSTEM, _ALIAS) if self._is_redirected else path)

    def absolute_path(self, text: str) -> MachinePath:
        """The absolute path for a typed one."""
        return MachinePath(ntpath.normpath(ntpath.join(self._current, text)))

    def fold(self, name: str) -> str:
        """The form in which two names or paths are equal exactly if they are the same to this machine."""
        return name.lower()

    def afresh(self) -> "WindowsHost":
        """The same machine with nothing remembered of what was read."""
        return WindowsHost(self.environment, self._current)


def _replace_folder(path: str, folder: str, instead: str) -> str:
    is_below = ntpath.normcase(path + "\\").startswith(ntpath.normcase(folder + "\\"))
    return instead + path[len(folder) :] if is_below else path


def _live_registry() -> Registry:
    from fundamen.machine.registry_live import LiveRegistry  # noqa: PLC0415 - only on Windows

    return LiveRegistry()
