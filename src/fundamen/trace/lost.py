"""Trace a program that is gone: by the package database, which still knows who brought it."""

import re

import msgspec

from fundamen.evidence.alternatives import Alternative, find_alternative
from fundamen.evidence.certificate_bundle import BUNDLE, bundle_of
from fundamen.evidence.debian_lists import find_not_installed
from fundamen.evidence.dpkg import find_listed, installed_versions
from fundamen.evidence.dpkg_database import STATUS, find_database_damage
from fundamen.loaders.load_map import Candidate, CandidateOutcome
from fundamen.loaders.loading import LAUNCHERS
from fundamen.loaders.preload_list import PRELOAD, find_unloadable
from fundamen.machine.links import dangling_target, is_gone
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.programs import find_program, places_on_path
from fundamen.messages import Message, as_said, say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.binary import Format, Necessity
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.records import (
    ALTERNATIVE,
    BUNDLE_OF_CERTIFICATES,
    COMMAND,
    DATABASE,
    INSTALLED_FILE,
    OF_THE_SYSTEM,
    PRELOAD_LIST,
    Component,
    Trace,
)

_COMMANDS = "/usr/bin"  # where a package puts the command of its name
_NO_COMMAND = re.compile(r"lib.*|.*-(?:dev|doc|dbg|data|common)")  # packages that bring none of their name
_NO_PROGRAMS = {COMMAND, *OF_THE_SYSTEM} - {ALTERNATIVE}  # nothing needs them by name


def find_program_or_lost(machine: Machine, name: str, *, asks_archive: bool = True) -> MachinePath:
    """The path of a program, as ``find_program`` has it; of a bare name that is gone, where a package had it.

    Args:
        machine: on which it is sought.
        name: as it is typed.
        asks_archive: whether a package of that name that was never installed would have it.
    """
    path = find_program(machine, name)
    if name.endswith(LAUNCHERS) and is_gone(machine, path):
        from fundamen.loaders.launchers import find_launcher  # noqa: PLC0415 - few are traced

        return find_launcher(machine, name) or path
    if not is_gone(machine, path) or machine.platform is not Platform.LINUX or machine.paths.basename(name) != name:
        return path
    places = [place for place, _ in places_on_path(machine, name)]
    listed = next((listed for _, listed in find_listed(machine, places, ())), None)
    listed = listed or next((place for place in places if find_alternative(machine, place) is not None), None)
    if listed is None and asks_archive and _has_package(machine, name):
        return MachinePath(f"{_COMMANDS}/{name}")
    return listed or path


def trace_lost(machine: Machine, program: MachinePath) -> Trace | None:
    """The trace of a program at whose path nothing is: the file that an installed package brought is its fault.

    None where neither an installed package nor the archive knows of it.

    Raises:
        UnreadableError: it is a link that leads to nothing, of which no package knows.
    """
    target = dangling_target(machine, program)
    for path in (program,) if target is None else (target,):
        for name, listed in find_listed(machine, [path], ()):
            if (found := installed_versions(machine, {name}).get(name)) is not None:
                package = f"{name.partition(':')[0]} {found[0]}"
                return _trace(program, listed, package, target)
    if (alternative := find_alternative(machine, program)) is not None and alternative.choices:
        return _trace_alternative(program, alternative, target)
    if target is None:
        return _trace_command(machine, program)
    beside = [
        name for name in machine.names(machine.folder_of(target)) if _is_alike(name, machine.paths.basename(target))
    ]
    lies = say("trace.beside-it-lies", names=", ".join(map(printable, beside[:3]))) if beside else ""
    raise UnreadableError(
        what=say("trace.cannot-be-read", program=printable(program)),
        why=say("trace.it-is-a-link-to-and", target=printable(target)),
        do=say("trace.put-that-file-back-or-let", lies=lies),
    )


def trace_database(machine: Machine) -> Trace:
    """The trace of the package database itself."""
    damage = find_database_damage(machine)
    verdict, reason = Verdict.VERIFIED, say("trace.it-tells-of-every-package-that")
    if damage is not None:
        verdict, reason = Verdict.CORRUPT, as_said(damage.why)
        if damage.backup is not None:
            reason = say("trace.its-backup-is-whole", why=reason, backup=damage.backup)
    return _trace_one(STATUS, STATUS, reason, as_said("dpkg"), kind=DATABASE, verdict=verdict)


def trace_bundle(machine: Machine) -> Trace | None:
    """The trace of the bundle of trusted certificates; None where the machine has no certificates to make it of."""
    made = bundle_of(machine)
    if not made:
        return None
    entry = machine.look(BUNDLE)
    there = say("trace.the-certificates-that-it-is-made")
    if entry.kind is not EntryKind.FILE:
        verdict, reason = Verdict.MISSING, say("trace.it-is-gone", there=there)
    elif not entry.size:
        verdict, reason = Verdict.CORRUPT, say("trace.it-is-empty", there=there)
    elif machine.content(BUNDLE, entry.size) == made:
        verdict, reason = Verdict.VERIFIED, say("trace.it-holds-the-accepted-certificates")
    else:
        verdict, reason = Verdict.UNVERIFIED, say("trace.it-holds-other-certificates-than-those")
    because = say("trace.the-list-of-accepted-certificates")
    return _trace_one(BUNDLE, BUNDLE, reason, because, kind=BUNDLE_OF_CERTIFICATES, verdict=verdict)


def trace_preload_list(machine: Machine) -> Trace | None:
    """The trace of the list of libraries to preload; None where there is none."""
    if machine.look(PRELOAD).kind is not EntryKind.FILE:
        return None
    unloadable = find_unloadable(machine)
    reason = (
        say("trace.it-names-what-cannot-be-loaded", names=" and ".join(map(printable, unloadable)))
        if unloadable
        else say("trace.all-that-it-names-is-there")
    )
    verdict = Verdict.CORRUPT if unloadable else Verdict.VERIFIED
    return _trace_one(PRELOAD, PRELOAD, reason, as_said("ld.so"), kind=PRELOAD_LIST, verdict=verdict)


def _has_package(machine: Machine, name: str) -> bool:
    """Whether the archive has a package that is not installed and is likely to bring the command of its name."""
    return _NO_COMMAND.fullmatch(name) is None and bool(find_not_installed(machine, [name]))


def _trace_command(machine: Machine, program: MachinePath) -> Trace | None:
    """The trace of a command that is not installed, where the archive has a package of its name."""
    folder, _, name = program.rpartition("/")
    if folder != _COMMANDS or not _has_package(machine, name):
        return None
    reason = say("trace.it-is-not-installed")
    trace = _trace_one(program, program, reason, say("trace.the-package-database"), kind=COMMAND)
    faults = (msgspec.structs.replace(fault, brought_by=(name,)) for fault in trace.components)
    return msgspec.structs.replace(trace, components=tuple(faults))


def _trace_alternative(program: MachinePath, alternative: Alternative, target: MachinePath | None) -> Trace:
    where = (
        say("trace.its-link-is-gone")
        if target is None
        else say("trace.its-link-leads-to-which-is", target=printable(target))
    )
    reason = say("trace.it-is-an-alternative-and-is", where=where, choices=printable(alternative.choices[0]))
    return _trace_one(program, program, reason, say("trace.the-alternatives-of-the-system"), kind=ALTERNATIVE)


def _trace(program: MachinePath, listed: MachinePath, package: str, target: MachinePath | None) -> Trace:
    brought = say("trace.the-package-brought-it-and-it", package=package)
    reason = brought if target is None else say("trace.is-a-link-to-it", program=printable(program), brought=brought)
    return _trace_one(program, listed, reason, say("trace.the-list-of", package=package), kind=INSTALLED_FILE)


def _trace_one(
    program: MachinePath,
    listed: MachinePath,
    reason: Message,
    because: Message,
    *,
    kind: str,
    verdict: Verdict = Verdict.MISSING,
) -> Trace:
    fault = Component(
        name=listed,
        kind=kind,
        verdict=verdict,
        reason=reason,
        how=Necessity.REQUIRED,
        path=None,
        wanted_architecture=Architecture.ANY,
        architecture=None,
        version=None,
        unoffered=(),
        needed_by=() if kind in _NO_PROGRAMS else (program,),
        chain=() if kind in _NO_PROGRAMS else (program,),
        evidence=(),
        searched=(Candidate(listed, CandidateOutcome.ABSENT, because),),
        sought_as=(listed,),
    )
    return Trace(program, Format.INSTALLED, Architecture.ANY, (fault,))


def _is_alike(name: str, wanted: str) -> bool:
    """Whether a file may be another version of one: the same name up to the first dot or digit."""
    stem = wanted.partition(".")[0].rstrip("0123456789-")
    return bool(stem) and name != wanted and name.startswith(stem)
