"""Two machines side by side: within what programs depend on, and in what is installed, trusted and started.

Of a program the shortest list is given: only what differs among the components that either machine's loader takes for
it, a fault on one side alone first. Everything else of the two machines may differ without any harm to it.
"""

from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import datetime
from enum import StrEnum
from hashlib import sha256

import msgspec

from fundamen.evidence.dpkg import all_installed
from fundamen.loaders.elf_loading import lines_of
from fundamen.machine.installed import SERVICES, UNINSTALL, ServiceStart, installed_packages
from fundamen.machine.machine import Machine
from fundamen.machine.trust_stores import read_trust_stores
from fundamen.machine.units import UNIT_FOLDERS
from fundamen.messages import Message, say
from fundamen.model.architecture import Platform
from fundamen.model.errors import DamagedFileError, UnreadableError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.model.trust_store import StoreRole
from fundamen.sources.reference import Baseline, DifferenceKind, compare_with, read_tree
from fundamen.trace.records import Component, Trace
from fundamen.trace.trace import trace_program
from fundamen.trust.certificate import read_certificate

_SESSION_MANAGER = r"HKLM\System\CurrentControlSet\Control\Session Manager"
_SEARCH_MODES = ("SafeDllSearchMode", "SafeProcessSearchMode", "CWDIllegalInDllSearch", "ExcludeFromKnownDlls")
_STARTS = {
    ServiceStart.BOOT: "started by the boot loader",
    ServiceStart.SYSTEM: "started by the kernel",
    ServiceStart.AUTOMATIC: "started with the system",
    ServiceStart.ON_DEMAND: "started on demand",
    ServiceStart.DISABLED: "disabled",
}
_LOADERS = ("PATH", "LD_LIBRARY_PATH", "LD_PRELOAD", "LD_AUDIT", "JAVA_HOME", "DOTNET_ROOT")
NOTHING = "not there"


class About(StrEnum):
    """Subjects of differences, in the order in which they are shown."""

    COMPONENT = "component"
    PACKAGE = "package"
    CERTIFICATE = "certificate"
    SERVICE = "service"
    SETTING = "setting"  # of the loader
    VARIABLE = "variable"
    FILE = "file"  # of a tree


class MachineDifference(msgspec.Struct, frozen=True):
    """One thing that is not the same on both."""

    about: About
    name: str
    here: str  # in words; "not there" where it is only there
    there: str
    program: str = ""  # for which it matters; empty where it is of the machines as a whole
    is_decisive: bool = False  # it is a fault on one side alone


class MachineComparison(msgspec.Struct, frozen=True):
    """Two machines side by side."""

    here: str
    there: str
    differences: tuple[MachineDifference, ...]  # the decisive ones first
    alike: int  # how many components of the programs are the same
    gaps: tuple[Message, ...] = ()  # what could not be compared, and why
    shared_faults: tuple[str, ...] = ()  # components of the programs that are at fault on both, in the same way


def compare_machines(here: Machine, there: Machine, programs: Sequence[MachinePath]) -> MachineComparison:
    """Compare what programs depend on, where any is named; otherwise the machines as a whole.

    Raises:
        UnreadableError: a program can be traced on neither.
    """
    gaps: list[Message] = []
    if not programs:
        return MachineComparison(here.title, there.title, tuple(_of_machines(here, there, gaps)), 0, tuple(gaps))
    differences: list[MachineDifference] = []
    alike: list[Component] = []
    for program in programs:
        own, same = _of_program(here, there, program)
        differences += own
        alike += same
    differences.sort(key=lambda each: not each.is_decisive)
    faults = tuple(dict.fromkeys(component.name for component in alike if component.is_fault))
    return MachineComparison(here.title, there.title, tuple(differences), len(alike), tuple(gaps), faults)


def compare_trees(here: HostPath, there: HostPath, now: datetime) -> MachineComparison:
    """Compare two folders of this host, file by file.

    Raises:
        UnreadableError: one of them is not there, or holds more than any tree has.
    """
    other = {path: entry for path, entry in read_tree(there).items() if entry is not None}
    found = compare_with(Baseline("the other", there, now, (), other), here)
    words = {
        DifferenceKind.VANISHED: (NOTHING, "there"),
        DifferenceKind.EXTRA: ("there", NOTHING),
        DifferenceKind.BARRED: (say("survey.it-cannot-be-read"), "there"),
    }
    differences = [
        MachineDifference(About.FILE, each.path, *words.get(each.finding, (each.detail, say("survey.as-it-is-there"))))
        for each in found.differences
    ]
    return MachineComparison(here, there, tuple(differences), len(other) - len(found.at_fault))


def _of_program(here: Machine, there: Machine, program: MachinePath) -> tuple[list[MachineDifference], list[Component]]:
    """(what differs within what a program depends on, the components that are the same)."""
    traces: list[Trace | None] = []
    errors: list[UnreadableError] = []
    for machine in (here, there):
        try:
            traces.append(trace_program(machine, program))
        except UnreadableError as error:
            traces.append(None)
            errors.append(error)
    if len(errors) > 1:
        raise errors[0]
    if None in traces:
        said = [say("survey.it-can-be-traced") if trace is not None else errors[0].why for trace in traces]
        return [MachineDifference(About.COMPONENT, program, said[0], said[1], program, is_decisive=True)], []
    ours, theirs = ({_key(m, c): c for c in t.components} for m, t in zip((here, there), traces, strict=True) if t)
    found: list[MachineDifference] = []
    alike: list[Component] = []
    for key in dict.fromkeys((*ours, *theirs)):
        one, other = ours.get(key), theirs.get(key)
        words = (_standing_words(one), _standing_words(other))
        if words[0] == words[1]:
            digests = _digests(here, one, there, other)
            if digests is None or digests[0] == digests[1]:
                alike += [each for each in (one or other,) if each is not None]
                continue
            words = (
                say("survey.content", words=words[0], digests=digests[0][:16]),
                say("survey.content", words=words[1], digests=digests[1][:16]),
            )
        is_decisive = (one is not None and one.is_fault) is not (other is not None and other.is_fault)
        name = key.partition(" ")[2]
        found.append(MachineDifference(About.COMPONENT, name, *words, program, is_decisive=is_decisive))
    return found, alike


def _key(machine: Machine, component: Component) -> str:
    return f"{component.kind} {machine.fold(machine.paths.basename(component.name))}"


def _standing_words(component: Component | None) -> str:
    """How a component stands, in words that do not depend on the machine."""
    if component is None:
        return "not needed"
    if component.path is None:
        return f"{component.verdict}: {component.reason}"
    version = f" {component.version}" if component.version else ""
    fault = f", {component.verdict}" if component.verdict.is_fault else ""
    return say("survey.for", path=component.path, version=version, architecture=component.architecture, fault=fault)


def _digests(here: Machine, one: Component | None, there: Machine, other: Component | None) -> tuple[str, str] | None:
    """The digests of two files by the same algorithm; None where one of them cannot be known."""
    if one is None or other is None or one.path is None or other.path is None:
        return None
    for algorithm in ("sha256", "md5"):
        try:
            return here.digest(one.path, algorithm), there.digest(other.path, algorithm)
        except (UnreadableError, OSError):
            continue
    return None


def _of_machines(here: Machine, there: Machine, gaps: list[Message]) -> Iterator[MachineDifference]:
    """Installed, trusted and started things of one of two machines that the other lacks."""
    parts: tuple[tuple[About, Callable[[Machine], Mapping[str, str]]], ...] = (
        (About.PACKAGE, packages_of),
        (About.CERTIFICATE, roots_of),
        (About.SERVICE, services_of),
        (About.SETTING, settings_of),
        (About.VARIABLE, _variables_of),
    )
    for about, find in parts:
        try:
            ours, theirs = find(here), find(there)
        except UnreadableError as error:
            gaps.append(say("survey.s-are-not-compared", about=about, what=error.what, why=error.why))
            continue
        for name in sorted({*ours, *theirs}):
            one, other = ours.get(name, NOTHING), theirs.get(name, NOTHING)
            if one != other:
                yield MachineDifference(about, name, one, other)


def packages_of(machine: Machine) -> dict[str, str]:
    """The versions of all installed packages, by name and architecture. Raises: UnreadableError."""
    if machine.platform is Platform.WINDOWS:
        _require_recorded(machine, UNINSTALL)
        return {package.name: package.version for package in installed_packages(machine.registry)}
    if machine.platform is not Platform.LINUX:
        return {}
    return {
        f"{name}:{architecture}": version
        for name, found in all_installed(machine).items()
        for version, architecture in found
    }


def roots_of(machine: Machine) -> dict[str, str]:
    """The roots that a machine trusts: by name and fingerprint, until when."""
    found: dict[str, str] = {}
    for stored in read_trust_stores(machine).certificates:
        if stored.role is StoreRole.ROOT:
            try:
                certificate = read_certificate(stored.der)
            except DamagedFileError:
                continue
            fingerprint = sha256(stored.der).hexdigest()[:16]
            found[f"{certificate.subject.shown} ({fingerprint}...)"] = say(
                "survey.until", not_after=certificate.not_after
            )
    return found


def settings_of(machine: Machine) -> dict[str, str]:
    """The loader settings of a machine: the folders and names in their files, or their values in the registry.

    Raises:
        UnreadableError: a capture does not tell.
    """
    if machine.platform is Platform.WINDOWS:
        _require_recorded(machine, _SESSION_MANAGER)
        known = machine.registry.values(rf"{_SESSION_MANAGER}\KnownDLLs") or {}
        own = {"search path": machine.registry.text(rf"{_SESSION_MANAGER}\Environment", "Path")}
        own |= {name: str(machine.registry.value(_SESSION_MANAGER, name) or "") for name in _SEARCH_MODES}
        own |= {say("survey.known-library", name=name): str(value) for name, value in known.items()}
        return {name: value for name, value in own.items() if value}
    if machine.platform is not Platform.LINUX:
        return {}
    folder = MachinePath("/etc/ld.so.conf.d")
    listed = [machine.join(folder, name) for name in _names(machine, folder) if name.endswith(".conf")]
    files = (MachinePath("/etc/ld.so.conf"), *listed, MachinePath("/etc/ld.so.preload"))
    lines_by_path = {path: "; ".join(filter(None, lines_of(machine, path))) for path in files}
    return {path: lines for path, lines in lines_by_path.items() if lines}


def services_of(machine: Machine) -> dict[str, str]:
    """The services that are started with a machine, each with what has it started; of Windows all, with when they are.

    Raises:
        UnreadableError: a capture does not tell.
    """
    found: dict[str, str] = {}
    if machine.platform is Platform.WINDOWS:
        _require_recorded(machine, SERVICES)
        for name, values in machine.registry.children(SERVICES):
            start = values.get("Start")
            if isinstance(start, int) and start in set(ServiceStart):
                found[name] = _STARTS[ServiceStart(start)]
        return found
    for folder in UNIT_FOLDERS if machine.platform is Platform.LINUX else ():
        for name in _names(machine, folder):
            if name.endswith((".wants", ".requires")):
                for unit in _names(machine, machine.join(folder, name)):
                    found[unit] = say("survey.started-by", name=name.rpartition(".")[0])
    return found


def _require_recorded(machine: Machine, key: str) -> None:
    """Make sure that a machine's registry tells whether it has a key. Raises: UnreadableError."""
    if not machine.registry.knows(key):
        raise UnreadableError(
            what=machine.title,
            why=say("survey.its-registry-is-not-available-below", key=key),
            do=say("survey.name-the-folder-that-its-system"),
        )


def _variables_of(machine: Machine) -> dict[str, str]:
    return {name: value for name in _LOADERS if (value := machine.environment.get(name))}


def _names(machine: Machine, folder: MachinePath) -> tuple[str, ...]:
    """The names in a folder; none where there is no such folder. Raises: UnreadableError: a capture does not tell."""
    return machine.names(folder)
