"""Which Java runtimes are installed on a machine, and which of them a command takes.

Source: the ``release`` file that every build of OpenJDK carries (JEP 223 for the form of its version); Apple's
java_home(1) and Debian's Java Policy for the usual folders; the registry keys of "JavaSoft".
"""

import re
from collections.abc import Iterator

import msgspec

from fundamen.loaders.load_map import CandidateOutcome
from fundamen.loaders.search_path import find_on_path
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import Message, say
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_MOST_BYTES = 1 << 16
_MOST_FOLDERS = 500
_SETTING = re.compile(r'^(\w+)="?([^"\n]*)"?\s*$', re.MULTILINE)
_JAVASOFT = tuple(rf"HKLM\Software\JavaSoft\{name}" for name in ("JDK", "JRE", "Java Runtime Environment"))
_FOLDERS = {
    Platform.LINUX: ("/usr/lib/jvm", "/opt", "/usr/local", "/usr/java"),
    Platform.MACOS: ("/Library/Java/JavaVirtualMachines", "/System/Library/Java/JavaVirtualMachines"),
    Platform.WINDOWS: ("C:\\Program Files", "C:\\Program Files (x86)", "C:\\Program Files\\Java"),
}


class JavaRuntime(msgspec.Struct, frozen=True):
    """One installed runtime."""

    home: MachinePath
    java: int  # 8, 11, 17 ...
    version: str  # as its release file has it
    launcher: MachinePath  # the program ``java``
    because: Message  # what leads to it


def find_runtimes(machine: Machine) -> list[JavaRuntime]:
    """All runtimes that are found, the one that a command takes first: on PATH, then in JAVA_HOME, then the others."""
    found: dict[MachinePath, JavaRuntime] = {}
    for home, because in (*_chosen_runtimes(machine), *_registered_runtimes(machine), *_usual(machine)):
        real = machine.real(home)
        if real not in found and len(found) < _MOST_FOLDERS:
            runtime = _read(machine, real, because)
            if runtime is not None:
                found[real] = runtime
    return list(found.values())


def _chosen_runtimes(machine: Machine) -> Iterator[tuple[MachinePath, Message]]:
    on_path = next((c.path for c in find_on_path(machine, "java") if c.outcome is CandidateOutcome.TAKEN), None)
    if on_path is not None:
        home = machine.folder_of(machine.folder_of(machine.real(on_path)))
        yield home, say("loaders.path-finds", on_path=on_path)
        yield (
            machine.folder_of(home),
            say("loaders.path-finds", on_path=on_path),
        )  # up to Java 8 the program lies in jre/bin
    given = machine.environment.get("JAVA_HOME", "")
    if machine.paths.isabs(given):
        yield MachinePath(given), say("loaders.java-home-names-it")


def _registered_runtimes(machine: Machine) -> Iterator[tuple[MachinePath, Message]]:
    for key in _JAVASOFT if machine.platform is Platform.WINDOWS else ():
        for name in machine.registry.subkeys(key):
            home = machine.registry.value(f"{key}\\{name}", "JavaHome")
            if isinstance(home, str):
                yield MachinePath(home), say("loaders.the-registry-has-it-as", name=name)


def _usual(machine: Machine) -> Iterator[tuple[MachinePath, Message]]:
    for folder in _FOLDERS[machine.platform]:
        try:
            names = machine.names(MachinePath(folder))
        except UnreadableError:
            continue
        for name in names[:_MOST_FOLDERS]:
            inner = ("Contents", "Home") if machine.platform is Platform.MACOS else ()
            yield machine.join(folder, name, *inner), say("loaders.it-is-installed-in", folder=folder)


def _read(machine: Machine, home: MachinePath, because: Message) -> JavaRuntime | None:
    ending = ".exe" if machine.platform is Platform.WINDOWS else ""
    places = (machine.join(home, *parts, f"java{ending}") for parts in (("bin",), ("jre", "bin")))
    launcher = next((path for path in places if machine.look(path).kind is EntryKind.FILE), None)
    if launcher is None:
        return None
    try:
        text = machine.content(machine.join(home, "release"), _MOST_BYTES).decode("utf-8", "replace")
    except UnreadableError:
        return None
    version = dict(_SETTING.findall(text)).get("JAVA_VERSION", "")
    numbers = [int(number) for number in re.findall(r"[0-9]{1,9}", version)[:2]]
    if not numbers:
        return None
    java = numbers[1] if numbers[0] == 1 and len(numbers) > 1 else numbers[0]  # 1.8.0 is Java 8 (JEP 223)
    return JavaRuntime(home, java, version, launcher, because)
