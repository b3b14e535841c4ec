"""Where else on the machine a missing library lies, and whether the copies there are right and vouched for."""

from collections.abc import Collection, Sequence

import msgspec

from fundamen.evidence.authority import Authority, Says, Subject, Testimony
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.nearby import folders_near
from fundamen.messages import Message, say
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.records import Component, Trace

_MOST_COPIES = 3  # of one library


def with_copies(machine: Machine, trace: Trace, authorities: Sequence[Authority]) -> Trace:
    """The trace, with a remark on each missing library of which copies lie where its loader does not look."""
    missing = [component for component in trace.components if _is_lost(component)]
    if not missing:
        return trace
    trace = _with_other_case(machine, trace, missing)
    names = {machine.fold(machine.paths.basename(component.name)) for component in missing}
    copies = find_copies(machine, trace, names)
    subjects = [Subject(path, name, trace.architecture) for name, paths in copies.items() for path in paths]
    said = {path: found for each in authorities for path, found in each.testify(machine, subjects).items()}

    def add_remark(component: Component) -> Component:
        paths = copies.get(machine.fold(machine.paths.basename(component.name)), ())
        if not _is_lost(component) or not paths:
            return component
        remarks = tuple(_copy_words(path, said.get(path)) for path in paths)
        return msgspec.structs.replace(component, remarks=(*component.remarks, *remarks))

    return msgspec.structs.replace(trace, components=tuple(map(add_remark, trace.components)))


def _with_other_case(machine: Machine, trace: Trace, missing: Sequence[Component]) -> Trace:
    """The trace, with a remark on each file where a loader looks that has a missing one's name in other case."""
    wanted = {machine.paths.basename(component.name).lower() for component in missing}
    lying: dict[MachinePath, list[str]] = {}  # by folder
    for folder in machine.folders_of(candidate.path for each in missing for candidate in each.searched):
        try:
            names = [name for name in machine.names(folder) if name.lower() in wanted]
        except UnreadableError:  # no one may look into it, or a capture does not tell
            continue
        if names:
            lying[folder] = names
    if not lying:
        return trace

    def add_remark(component: Component) -> Component:
        name = machine.paths.basename(component.name)
        for folder in machine.folders_of(candidate.path for candidate in component.searched):
            for each in lying.get(folder, ()):
                if each.lower() == name.lower() and machine.fold(each) != machine.fold(name):
                    path = machine.join(folder, each)
                    difference = say("trace.lies-there-its-name-differs-in", path=path)
                    return msgspec.structs.replace(component, remarks=(*component.remarks, difference))
        return component

    components = (add_remark(component) if _is_lost(component) else component for component in trace.components)
    return msgspec.structs.replace(trace, components=tuple(components))


def _is_lost(component: Component) -> bool:
    return component.verdict is Verdict.MISSING and component.kind == "shared-library"


def find_copies(machine: Machine, trace: Trace, names: Collection[str]) -> dict[str, list[MachinePath]]:
    """Libraries of some names (folded), intact and of the program's architecture, the nearest to the program first."""
    found: dict[str, list[MachinePath]] = {}
    for folder, entries in folders_near(machine, machine.folder_of(machine.real(trace.program))):
        for entry in entries:
            name = machine.fold(entry)
            if name in names and len(found.get(name, ())) < _MOST_COPIES:
                path = machine.join(folder, entry)
                if _is_of_use(machine, path, trace):
                    found.setdefault(name, []).append(path)
    return found


def _is_of_use(machine: Machine, path: MachinePath, trace: Trace) -> bool:
    if machine.look(path).kind is not EntryKind.FILE:
        return False
    try:
        binary = machine.binary(path)
    except UnreadableError:
        return False
    architectures = (binary.architecture, *binary.also_for)
    return binary.format is trace.format and binary.is_intact and trace.architecture in architectures


def _copy_words(path: MachinePath, testimony: Testimony | None) -> Message:
    words = {Says.RIGHT: say("trace.is-verified-by"), Says.UNKNOWN: say("trace.is-not-verified-by")}
    if testimony is None:
        return say("trace.a-copy-lies-at-where-its", path=path)
    word = words.get(testimony.says, say("trace.must-not-be-trusted-says"))
    return say("trace.a-copy-lies-at-where-its-loader", path=path, word=word, sentence=testimony.sentence)
