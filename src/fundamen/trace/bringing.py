"""Which package of the operating system's archive would bring what is missing."""

import json
from collections.abc import Sequence

import msgspec

from fundamen.evidence.debian_contents import find_bringers
from fundamen.evidence.debian_dependencies import find_removed_packages
from fundamen.loaders.glibc_itself import system_folders
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.records import Component, Trace

_SEARCHED = {"shared-library", "loader"}


def with_bringers(machine: Machine, trace: Trace) -> Trace:
    """The trace, with the packages that would put each missing library where the machine's loader finds it."""
    missing = [c for c in trace.components if c.verdict is Verdict.MISSING and c.kind in _SEARCHED]
    if machine.platform is not Platform.LINUX or not missing:
        return trace
    names = {machine.paths.basename(component.name) for component in missing}
    folders = system_folders(machine, None, trace.architecture)
    places = {machine.real(MachinePath(folder)) for folder in folders}

    def brought_by(component: Component) -> tuple[str, ...]:
        bringers = found.get(machine.paths.basename(component.name), ())
        # A need that is a path is met only by a file of that very path.
        fitting = [b for b in bringers if "/" not in component.name or b.path.endswith(component.name)]
        direct = [b for b in fitting if machine.real(machine.folder_of(b.path)) in places]
        return tuple(dict.fromkeys(bringer.package for bringer in direct))

    known = say("trace.bringers", program=trace.program)
    if machine.is_captured:
        packages = _kept_packages(machine, known)
    else:
        found = find_bringers(machine, names, (trace.architecture,), folders)
        packages = {component.name: brought_by(component) for component in missing}
        if any(not brought for brought in packages.values()):
            packages = _with_removed(machine, missing, packages)
        machine.keep(known, json.dumps(packages).encode())  # not msgspec: a name may hold undecodable bytes
    components = tuple(
        msgspec.structs.replace(component, brought_by=packages[component.name])
        if component.verdict is Verdict.MISSING and component.kind in _SEARCHED and packages.get(component.name)
        else component
        for component in trace.components
    )
    return msgspec.structs.replace(trace, components=components)


def _with_removed(
    machine: Machine, missing: Sequence[Component], packages: dict[str, tuple[str, ...]]
) -> dict[str, tuple[str, ...]]:
    """The same, with packages that others depend on and that are not installed, where no list of contents knows any."""
    needers = {machine.paths.basename(c.name): c.needed_by for c in missing if not packages[c.name]}
    removed = find_removed_packages(machine, needers)
    return {name: known or removed.get(machine.paths.basename(name), ()) for name, known in packages.items()}


def _kept_packages(machine: Machine, known: str) -> dict[str, tuple[str, ...]]:
    """The packages that were found as the capture was made; none where it was not asked."""
    try:
        return msgspec.convert(json.loads(machine.walk_record(known) or b"{}"), type=dict[str, tuple[str, ...]])
    except (msgspec.ValidationError, ValueError, RecursionError):
        return {}
