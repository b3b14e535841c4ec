"""Remark on a trace besides the verdicts: passed-over files, mixed versions, registrations.

A remark changes no verdict. It is what a technician would want to know before the next step. All that is remarked so
far concerns Windows machines.
"""

from collections.abc import Iterator, Sequence

import msgspec

from fundamen.loaders.load_map import CandidateOutcome
from fundamen.machine.installed import Registration, ServiceStart, find_registrations, is_leftover, service_start
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.stated_version import version_info_of
from fundamen.messages import Message, say
from fundamen.model.verdict import Verdict
from fundamen.trace.records import Component

_SYSTEM = "c:\\windows\\"  # whose files are brought up to date one by one, each with a version of its own
_INSTALLER = "msiserver"
_ABSENT = {Verdict.MISSING, Verdict.WRONG_ARCHITECTURE, Verdict.CORRUPT}


def with_remarks(machine: Machine, components: Sequence[Component]) -> tuple[Component, ...]:
    """The components, each with what is to be remarked on it."""
    mixed = _mixed_versions(machine, components)
    registered = _registrations(machine, components)
    remarked = []
    for component in components:
        remarks = (
            *component.remarks,
            *_passed_over(component),
            *mixed.get(component.path or "", ()),
            *registered.get(id(component), ()),
        )
        remarked.append(msgspec.structs.replace(component, remarks=remarks) if remarks else component)
    return tuple(remarked)


def remarks_on_machine(machine: Machine, components: Sequence[Component]) -> tuple[Message, ...]:
    """Obstacles to any repair of the machine."""
    has_fault = any(component.is_fault for component in components)
    if has_fault and service_start(machine.registry, _INSTALLER) is ServiceStart.DISABLED:
        return (say("trace.the-service-that-installs-packages-is", installer=_INSTALLER),)
    return ()


def _passed_over(component: Component) -> Iterator[Message]:
    """Copies that lie in front of the one that is taken."""
    if component.path is not None and not component.verdict.is_fault:
        for candidate in component.searched:
            if candidate.outcome is CandidateOutcome.OTHER_ARCHITECTURE:
                yield say("trace.comes-first-and-is-passed-over", path=candidate.path, detail=candidate.detail)


def _mixed_versions(machine: Machine, components: Sequence[Component]) -> dict[str, list[Message]]:
    """Files of one product in one folder that say that they are of different versions of it."""
    groups: dict[tuple[str, str, str], list[tuple[Component, str]]] = {}
    for component in components:
        path = component.path
        if path is None or path.lower().startswith(_SYSTEM):
            continue
        info = version_info_of(machine, path)
        product = info.strings.get("ProductName", "") if info is not None else ""
        if info is not None and info.product_version and product:
            key = (machine.fold(machine.folder_of(path)), info.strings.get("CompanyName", ""), product)
            groups.setdefault(key, []).append((component, info.product_version))
    remarks: dict[str, list[Message]] = {}
    for (_, _, product), members in groups.items():
        for component, version in members:
            others = [(c, v) for c, v in members if v != version]
            if others:
                text = ", ".join(
                    say("trace.is-from", file=machine.paths.basename(c.path or ""), v=v) for c, v in others[:3]
                )
                remarks.setdefault(component.path or "", []).append(
                    say("trace.it-is-from-but-versions-of", product=product, version=version, others=text)
                )
    return remarks


def _registrations(machine: Machine, components: Sequence[Component]) -> dict[int, list[str]]:
    """For what is at fault: which package's installer had put it where."""
    faults = {id(c): machine.paths.basename(c.name).lower() for c in components if c.verdict in _ABSENT}
    found = find_registrations(machine, set(faults.values()))
    return {
        key: [_registration_words(machine, each) for each in found[name]]
        for key, name in faults.items()
        if name in found
    }


def _registration_words(machine: Machine, registration: Registration) -> Message:
    is_there = machine.look(registration.path).kind is EntryKind.FILE
    state = say("trace.it-is-still-there") if is_there else say("trace.nothing-is-there-now")
    if registration.package is None:
        return say("trace.an-installer-counted-it-as-shared", path=registration.path, state=state)
    text = say(
        "trace.the-installer-of-put-it-at", title=registration.package.title, path=registration.path, state=state
    )
    if is_leftover(machine, registration.package):
        return say("trace.and-the-package-folder-is-gone", said=text, location=registration.package.location)
    return text
