"""Where the Windows image loader looks for a DLL: the folders in their order, the known libraries, the API sets.

Source: Microsoft's "Dynamic-link library search order" (standard search order of unpackaged programs, safe search mode,
which is the default; DLL redirection; known DLLs), and "Application Registration" for App Paths.
"""

import ntpath
from collections.abc import Iterator

from fundamen.formats.windows.api_set import SECTION, ApiSets, read_api_sets
from fundamen.formats.windows.pe import Pe
from fundamen.loaders.windows_processes import WINDOWS_FOLDER, as_seen, system_folder
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.registry import expand_variables
from fundamen.messages import Message, say
from fundamen.model.architecture import Architecture
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_SESSION_MANAGER = r"HKLM\System\CurrentControlSet\Control\Session Manager"
_APP_PATHS = r"HKLM\Software\Microsoft\Windows\CurrentVersion\App Paths"
_FOLDERS_OF_KNOWN = ("dlldirectory", "dlldirectory32")
_MOST_SCHEMA = 4 << 20  # bytes

Place = tuple[MachinePath, Message]  # a folder, and the rule that leads there


class SearchOrder:
    """The search order of the loader for one program on one machine.

    The current folder, which has its place before PATH, is taken to be the program's own, which comes first anyway.
    """

    def __init__(self, machine: Machine, program: MachinePath, architecture: Architecture) -> None:
        """Find out the folders once; they are the same for every library of the program."""
        self._machine = machine
        self._program = program
        self._architecture = architecture
        self.system = system_folder(machine, architecture)
        self.folders = self._without_repeats(self._all_folders())
        self._known = self._known_libraries()
        self._api_sets: ApiSets | None = None
        self._asked_for_schema = False

    def is_known(self, name: str) -> bool:
        """Whether the system keeps its own copy of a library ready, which every program gets."""
        return name.lower() in self._known

    def behind_api_set(self, name: str, importer: str) -> str | None:
        """The library that this system puts behind an API set; None where it has no schema or does not know the set."""
        if not self._asked_for_schema:
            self._asked_for_schema = True
            self._api_sets = self._read_schema()
        return self._api_sets.host_of(name, importer) if self._api_sets is not None else None

    @property
    def has_schema(self) -> bool:
        """Whether the system's own list of API sets could be read."""
        return self._api_sets is not None

    def _all_folders(self) -> Iterator[Place]:
        machine, program = self._machine, self._program
        redirection = MachinePath(program + ".local")
        if machine.look(redirection).kind is EntryKind.FOLDER:
            yield redirection, say("loaders.the-folder-of-redirected-libraries-beside")
        yield machine.folder_of(program), say("loaders.the-program-folder")
        yield self.system, say("loaders.the-system-folder-for-this-architecture")
        yield machine.join(WINDOWS_FOLDER, "System"), say("loaders.the-16-bit-system-folder")
        yield WINDOWS_FOLDER, say("loaders.the-windows-folder")
        for text, because in self._search_path():
            for folder in filter(None, (part.strip().strip('"') for part in text.split(";"))):
                yield as_seen(machine, self._architecture, machine.join(folder)), because

    def _search_path(self) -> Iterator[tuple[str, Message]]:
        registry = self._machine.registry
        own = registry.text(f"{_APP_PATHS}\\{ntpath.basename(self._program)}", "Path")
        yield expand_variables(own, self._variables()), say("loaders.the-program-own-path-in-the")
        given = self._machine.environment.get("PATH")
        if given is not None:
            yield given, say("loaders.path")
            return
        for key, because in (
            (f"{_SESSION_MANAGER}\\Environment", say("loaders.path")),
            (r"HKCU\Environment", say("loaders.the-user-path")),
        ):
            yield expand_variables(registry.text(key, "Path"), self._variables()), because

    def _variables(self) -> dict[str, str]:
        return {
            "SystemRoot": WINDOWS_FOLDER,
            "windir": WINDOWS_FOLDER,
            "SystemDrive": "C:",
            "ProgramFiles": "C:\\Program Files",
            "ProgramFiles(x86)": "C:\\Program Files (x86)",
            "ProgramData": "C:\\ProgramData",
            **self._machine.environment,
        }

    def _without_repeats(self, places: Iterator[Place]) -> tuple[Place, ...]:
        first: dict[str, Place] = {}
        for folder, because in places:
            first.setdefault(self._machine.fold(folder), (folder, because))
        return tuple(first.values())

    def _known_libraries(self) -> frozenset[str]:
        registry = self._machine.registry
        listed = registry.values(f"{_SESSION_MANAGER}\\KnownDLLs") or {}
        excluded = registry.value(_SESSION_MANAGER, "ExcludeFromKnownDlls") or ()
        names = {str(value).lower() for name, value in listed.items() if name.lower() not in _FOLDERS_OF_KNOWN}
        return frozenset(names - {name.lower() for name in (excluded if isinstance(excluded, tuple) else ())})

    def _read_schema(self) -> ApiSets | None:
        path = self._machine.join(WINDOWS_FOLDER, "System32", "apisetschema.dll")
        try:
            pe = self._machine.binary(path)
            section = next((s for s in pe.sections if s.name == SECTION), None) if isinstance(pe, Pe) else None
            if section is None:
                return None
            with self._machine.open(path) as source:
                return read_api_sets(source.read_at(section.offset, min(section.raw_size, _MOST_SCHEMA)))
        except UnreadableError:  # a volume without its own schema; the names then stay as they are
            return None
