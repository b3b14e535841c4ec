r"""Which runtimes and frameworks are installed on a machine, in which versions and widths.

Source: Microsoft's "Determine which .NET Framework versions are installed", "Redistributing Visual C++ Files" (the keys
``VC\Runtimes``), and the shared framework host's "Install location search" with its /etc/dotnet/install_location.
"""

from collections.abc import Callable, Iterator, Mapping

import msgspec

from fundamen.loaders.framework_host import WORDS
from fundamen.loaders.java_runtimes import find_runtimes
from fundamen.loaders.net_framework import Generation, installed_release
from fundamen.loaders.python_environment import installed_pythons
from fundamen.loaders.roll_forward import framework_version
from fundamen.loaders.windows_processes import WINDOWS_FOLDER
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_CPP = (r"HKLM\Software\Microsoft\VisualStudio", r"HKLM\Software\WOW6432Node\Microsoft\VisualStudio")
_CPP_GENERATIONS = ("14.0", "12.0", "11.0", "10.0")
_FRAMEWORK_FOLDERS = {Architecture.X86: "Framework", Architecture.X86_64: "Framework64"}
_INSTALL_LOCATION = MachinePath("/etc/dotnet/install_location")
_OF_WINDOWS = ("Program Files\\dotnet", "Program Files\\dotnet\\x64", "Program Files (x86)\\dotnet")
_SHARED_ROOTS = {
    Platform.LINUX: ("/usr/share/dotnet", "/usr/lib/dotnet", "/usr/lib64/dotnet"),
    Platform.MACOS: ("/usr/local/share/dotnet", "/usr/local/share/dotnet/x64"),
    Platform.WINDOWS: (
        "C:\\Program Files\\dotnet",
        "C:\\Program Files\\dotnet\\x64",
        "C:\\Program Files (x86)\\dotnet",
    ),
}
_HOSTS = {Platform.LINUX: "libhostfxr.so", Platform.MACOS: "libhostfxr.dylib", Platform.WINDOWS: "hostfxr.dll"}
_MOST_BYTES = 4096


class InstalledRuntime(msgspec.Struct, frozen=True):
    """One runtime or framework in one version and width."""

    version: str
    architecture: Architecture | None  # None where nothing tells
    path: MachinePath


def find_installed(machine: Machine, name: str) -> list[InstalledRuntime]:
    """All installed ones of a name: one of ``KNOWN``, else that of a shared framework."""
    find = KNOWN.get(name.lower())
    return list(find(machine) if find is not None else _shared_runtimes(machine, name))


def _java(machine: Machine) -> Iterator[InstalledRuntime]:
    for found in find_runtimes(machine):
        version = found.version.removeprefix("1.").replace("_", ".")  # 1.8.0_392 is Java 8 (JEP 223)
        yield InstalledRuntime(version, _architecture(machine, found.launcher), found.home)


def _python(machine: Machine) -> Iterator[InstalledRuntime]:
    for version, path in installed_pythons(machine):
        if machine.look(path).kind is EntryKind.FILE:
            yield InstalledRuntime(version, _architecture(machine, path), path)


def _net_framework(machine: Machine) -> Iterator[InstalledRuntime]:
    for generation in Generation:
        release = installed_release(machine.registry, generation)
        for architecture, word in _FRAMEWORK_FOLDERS.items() if release else ():
            folder = machine.join(WINDOWS_FOLDER, "Microsoft.NET", word, generation)
            if machine.look(folder).kind is EntryKind.FOLDER:
                yield InstalledRuntime(release, architecture, folder)


def _cpp(machine: Machine) -> Iterator[InstalledRuntime]:
    words = {word: architecture for architecture, word in WORDS.items()}
    seen: set[tuple[str, str]] = set()
    for software in _CPP:
        for generation in _CPP_GENERATIONS:
            key = rf"{software}\{generation}\VC\Runtimes"
            for word, values in machine.registry.children(key):
                named = {name.lower(): value for name, value in values.items()}
                version = str(named.get("version", "")).lstrip("v")
                if named.get("installed") == 1 and version and (word.lower(), version) not in seen:
                    seen.add((word.lower(), version))
                    yield InstalledRuntime(version, words.get(word.lower()), MachinePath(rf"{key}\{word}"))


def _shared_runtimes(machine: Machine, name: str) -> Iterator[InstalledRuntime]:
    for root in dict.fromkeys((*_configured_roots(machine), *_SHARED_ROOTS[machine.platform])):
        folder = machine.join(root, "shared", name)
        for version in _names(machine, folder):
            if framework_version(version) is not None:
                path = machine.join(folder, version)
                yield InstalledRuntime(version, _width_at(machine, root), path)


def _configured_roots(machine: Machine) -> Iterator[str]:
    if machine.environment.get("DOTNET_ROOT"):
        yield machine.environment["DOTNET_ROOT"]
    if machine.platform is Platform.LINUX and machine.look(_INSTALL_LOCATION).kind is EntryKind.FILE:
        text = machine.content(_INSTALL_LOCATION, _MOST_BYTES).decode("utf-8", "replace").strip()
        if text.startswith("/") and "\0" not in text:
            yield text.splitlines()[0]


def _width_at(machine: Machine, root: str) -> Architecture | None:
    folder = machine.join(root, "host", "fxr")
    hosts = (machine.join(folder, version, _HOSTS[machine.platform]) for version in _names(machine, folder))
    return next(filter(None, (_architecture(machine, host) for host in hosts)), None)


def _names(machine: Machine, folder: MachinePath) -> tuple[str, ...]:
    try:
        return machine.names(folder)
    except UnreadableError:
        return ()


def _architecture(machine: Machine, path: MachinePath) -> Architecture | None:
    try:
        return machine.binary(path).architecture
    except UnreadableError:
        return None


REGISTERED = frozenset({"java", "net framework", "visual c++"})  # on Windows, by their installers
KNOWN: Mapping[str, Callable[[Machine], Iterator[InstalledRuntime]]] = {
    "java": _java,
    "python": _python,
    "net framework": _net_framework,
    "visual c++": _cpp,
}
