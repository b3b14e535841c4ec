"""Look for the background of a message on this machine: trace the named program, look the component up."""

import re
from collections.abc import Callable, Iterator, Sequence
from contextlib import suppress
from itertools import islice
from typing import TYPE_CHECKING

import msgspec

from fundamen.clues.findings import Finding
from fundamen.clues.implied import implied_packages
from fundamen.clues.lost_around import find_lost_around, speakers_of
from fundamen.clues.lost_files import LostFile, find_lost_files, is_command
from fundamen.clues.mentions import MentionKind, plain_name
from fundamen.clues.other_builds import find_other_build
from fundamen.clues.other_ways import reason_of_symbol, trace_starters
from fundamen.clues.places import FoundPlace, folders_of_system, likely_names, look_up, names_in, other_versions
from fundamen.clues.plug_ins import find_barred_plug_in, find_faulty_plug_ins
from fundamen.clues.reading import Reading
from fundamen.clues.reasons import reason_by_place, reason_by_trace, reason_of_loss
from fundamen.evidence.authority import Authority
from fundamen.evidence.certificate_bundle import BUNDLE
from fundamen.evidence.debian_lists import find_not_installed
from fundamen.evidence.dpkg_database import STATUS, find_database_damage
from fundamen.knowledge.entries import KnownMessage
from fundamen.loaders.launchers import find_launcher
from fundamen.loaders.load_map import CandidateOutcome
from fundamen.loaders.preload_list import PRELOAD, find_unloadable
from fundamen.machine.access import ORDINARY, find_barrier
from fundamen.machine.links import dangling_target
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.pam_services import read_service
from fundamen.machine.programs import find_program
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Platform
from fundamen.model.binary import Format
from fundamen.model.errors import FundamenError
from fundamen.model.paths import MachinePath
from fundamen.trace.hints import with_hints
from fundamen.trace.inspection import Inspection, inspect_file
from fundamen.trace.lost import find_program_or_lost
from fundamen.trace.records import Trace
from fundamen.trace.trace import trace_program

if TYPE_CHECKING:  # it loads the library of cryptography, which a text about other things does not need
    from fundamen.evidence.publisher import PublisherAuthority

_PACKAGE_MANAGER = re.compile(r"(?:dpkg[a-z-]*|apt(?:-get|-cache)?|E|W):\s")  # at the beginning of what it prints
_SHELL = re.compile(r"(\S+): line \d+: ")  # a shell, or a script, that reports what it could not run
_MOST_TRACED = 3
_NO_COMMAND = "command-missing"  # the message of a shell that finds none


class Behind(msgspec.Struct, frozen=True, kw_only=True):
    """The state of a machine, as far as it concerns a text."""

    traces: tuple[Trace, ...] = ()
    signed: tuple[
        Inspection, ...
    ] = ()  # the files that are named where someone is not trusted, and who has signed them
    reason: Message = UNSAID  # in one sentence: what the message says, and what is behind it
    places: tuple[FoundPlace, ...] = ()
    absent: tuple[str, ...] = ()  # components that the text names and that lie nowhere
    meant: tuple[tuple[str, str], ...] = ()  # (what the text names, a path on the machine that is spelled much like it)
    versions: tuple[tuple[str, str], ...] = ()  # (what the text names, a path of the same with another number)
    lost: tuple[LostFile, ...] = ()  # files that the text names and that an installed package has brought
    is_explained: bool = False  # whether the reason is more than that a trace shows nothing wrong
    available: tuple[str, ...] = ()  # packages of the archive that hold what is not installed, by their names
    used_by: MachinePath | None = None  # the program that needs it
    barred: MachinePath | None = None  # a file or folder that the text names, from which rights keep its user


def look_behind(
    machine: Machine,
    reading: Reading,
    authorities: Sequence[Authority],
    publishers: Callable[[], "PublisherAuthority"],
) -> Behind | None:
    """Look up on a machine what a text names; None where it names nothing that could be looked up.

    Args:
        machine: that the text may come from.
        reading: of the text.
        authorities: who may vouch for what is found.
        publishers: gives who judges signatures; called only where a text is about trust.
    """
    if reading.decisive is None:
        return None
    signed = tuple(_inspect_signed(machine, reading, authorities, publishers)) if _is_about_trust(reading) else ()
    if signed:
        return Behind(signed=signed, reason=_reason_of_trust(machine, signed[0]))
    traces = tuple(_trace_named(machine, reading, authorities))
    found = None if any(trace.faults for trace in traces) else _without_trace(machine, reading, traces)
    if found is not None and all(each.is_named for each in found.lost):
        return found
    by_place = _by_trace_or_place(machine, reading, reading.decisive, authorities, traces)
    if by_place is not None and (by_place.is_explained or by_place.places or any(trace.faults for trace in traces)):
        return by_place
    available = _with_available(machine, reading.decisive, by_place)
    # What the text does not name at all comes last: it is wrong on the machine, and may have nothing to do with it.
    return available if found is None or (available is not None and available.available) else found


def _without_trace(machine: Machine, reading: Reading, traces: tuple[Trace, ...]) -> Behind | None:
    """The explanation of a text that no trace of its programs gives, the nearest to its words first; None for none."""
    ways = (_by_other_build, _by_named_loss, _by_plug_in, _by_setting_of_speaker, _by_barrier, _by_loss_around)
    return next((found for find in ways if (found := find(machine, reading, traces)) is not None), None)


def _by_other_build(machine: Machine, reading: Reading, traces: tuple[Trace, ...]) -> Behind | None:
    build = find_other_build(machine, reading)
    if build is None:
        return None
    reason = say("clues.is-built-for-another-python", path=build.path, built=build.built_for, runs=build.runs)
    lost = find_lost_files(machine, reading) or find_lost_around(machine, reading, traces)
    return Behind(traces=traces, reason=reason, is_explained=True, lost=lost)


def _by_named_loss(machine: Machine, reading: Reading, traces: tuple[Trace, ...]) -> Behind | None:
    lost = find_lost_files(machine, reading)
    return Behind(traces=traces, reason=reason_of_loss(lost), lost=lost) if lost else None


def _by_setting_of_speaker(machine: Machine, reading: Reading, traces: tuple[Trace, ...]) -> Behind | None:
    reason = _settings_of_speaker(machine, reading)
    return Behind(traces=traces, reason=reason, is_explained=True) if reason else None


def _by_barrier(machine: Machine, reading: Reading, traces: tuple[Trace, ...]) -> Behind | None:
    if (found := _find_barred(machine, reading)) is None:
        return None
    path, reason = found
    return Behind(traces=traces, reason=reason, is_explained=True, barred=path)


def _by_loss_around(machine: Machine, reading: Reading, traces: tuple[Trace, ...]) -> Behind | None:
    lost = find_lost_around(machine, reading, traces)
    return Behind(traces=traces, reason=reason_of_loss(lost), lost=lost) if lost else None


def _by_plug_in(machine: Machine, reading: Reading, traces: tuple[Trace, ...]) -> Behind | None:
    """The explanation by plug-ins that a message does not name: rights keep from them, or they cannot be loaded."""
    if (decisive := reading.decisive) is None:
        return None
    faulty = []
    for path in islice(find_faulty_plug_ins(machine, decisive), _MOST_TRACED):
        with suppress(FundamenError):
            faulty.append(trace_program(machine, path))
    faulty = [trace for trace in faulty if trace.faults]
    if faulty:
        reason = reason_by_trace(machine, decisive, faulty)
        return Behind(traces=(*faulty, *traces), reason=reason, is_explained=True)
    if (found := find_barred_plug_in(machine, decisive)) is not None:
        path, barrier = found
        reason = say("clues.rights-keep-from-it", path=path, reason=barrier.reason(machine.run_as or ORDINARY))
        return Behind(traces=traces, reason=reason, is_explained=True, barred=path)
    return None


def _by_trace_or_place(
    machine: Machine,
    reading: Reading,
    decisive: Finding,
    authorities: Sequence[Authority],
    traces: tuple[Trace, ...],
) -> Behind | None:
    names = _components(reading)
    at_fault = {machine.fold(machine.paths.basename(fault.name)) for trace in traces for fault in trace.faults}
    # Thousands: they are gone through once.
    folders = tuple(folders_of_system(machine, reading, traces)) if names else ()
    places, absent = look_up(machine, names, folders, authorities)
    judged = {path for trace in traces for path in _places_of_faults(machine, trace)}
    places = tuple(place for place in places if place.path not in judged)
    absent = tuple(name for name in absent if machine.fold(name) not in at_fault)
    there = names_in(folders) if absent else {}
    meant = tuple((name, machine.join(there[other], other)) for name, other in likely_names(absent, there))
    versions = tuple(
        (name, machine.join(there[other], other)) for name in absent for other in other_versions(name, there)
    )
    if not traces and not names:
        return None
    by_symbol = _reason_by_symbol(machine, decisive, traces, authorities)
    reason = reason_by_trace(machine, decisive, traces) if traces else reason_by_place(places, absent)
    return Behind(
        traces=traces,
        reason=by_symbol or reason,
        places=places,
        absent=absent,
        meant=meant,
        versions=versions,
        is_explained=bool(by_symbol),
    )


def _with_available(machine: Machine, decisive: Finding, found: Behind | None) -> Behind | None:
    """The same, with the packages of the archive that hold what a message is about, for the program that needs it."""
    available = find_not_installed(machine, implied_packages(decisive)) if machine.platform is Platform.LINUX else ()
    speakers = decisive.entry.said_by if isinstance(decisive.entry, KnownMessage) else ()
    programs = (find_program(machine, name) for name in speakers)
    program = next((path for path in programs if machine.look(path).kind is EntryKind.FILE), None)
    if not available or program is None:
        return found
    return msgspec.structs.replace(found or Behind(), reason=UNSAID, absent=(), available=available, used_by=program)


def _reason_by_symbol(
    machine: Machine, decisive: Finding, traces: Sequence[Trace], authorities: Sequence[Authority]
) -> Message:
    """The reason of a message about a symbol, where all else is in order."""
    symbol = decisive.holes.get("symbol", "")
    if not symbol or any(trace.faults for trace in traces):
        return UNSAID
    reasons = (reason_of_symbol(machine, trace, symbol, authorities) for trace in traces)
    return next(filter(None, reasons), UNSAID)


def _settings_of_speaker(machine: Machine, reading: Reading) -> Message:
    """A fault of the link by which a command is reached, or of its settings of PAM; empty for none."""
    if machine.platform is not Platform.LINUX or reading.decisive is None:
        return UNSAID
    holes = reading.decisive.holes
    for name in filter(is_command, (holes[hole] for hole in ("program", "component") if hole in holes)):
        path = find_program(machine, name)
        if (target := dangling_target(machine, path)) is not None:
            return say("clues.is-a-link-to-which-is-gone", path=path, target=target)
    for name in dict.fromkeys(speakers_of(reading)):
        service = read_service(machine, plain_name(name)) if is_command(plain_name(name)) else None
        if service is not None and service.missing:
            return say("clues.a-setting-of-pam-is-gone", path=service.missing[0], program=plain_name(name))
    return UNSAID


def _find_barred(machine: Machine, reading: Reading) -> tuple[MachinePath, Message] | None:
    """The first thing that the text names from which rights keep the user who runs the program, and why."""
    user = machine.run_as or ORDINARY
    causes = [each for each in (reading.decisive, *reading.also) if each is not None]
    is_about_rights = any(each.entry is not None and each.entry.about == "blocked" for each in causes)
    if machine.run_as is None and not is_about_rights:
        return None
    named = [each.holes[hole] for each in causes for hole in ("path", "program", "component") if hole in each.holes]
    named += [mention.text for mention in reading.mentions if mention.kind is MentionKind.PATH]
    for path in (machine.absolute_path(name) for name in dict.fromkeys(named) if name.startswith("/")):
        barrier = find_barrier(machine, path, user)
        if barrier is not None:
            return path, say("clues.rights-keep-from-it", path=path, reason=barrier.reason(user))
    return None


def _is_about_trust(reading: Reading) -> bool:
    causes = (reading.decisive, *reading.also)
    return any(each.entry.about == "untrusted" for each in causes if each is not None and each.entry is not None)


def _inspect_signed(
    machine: Machine,
    reading: Reading,
    authorities: Sequence[Authority],
    publishers: Callable[[], "PublisherAuthority"],
) -> Iterator[Inspection]:
    """The named files that carry a signature, judged; those that are not trusted first."""
    found: list[Inspection] = []
    for path in islice(_named_files(machine, reading), _MOST_TRACED):
        try:
            if machine.binary(path).may_be_signed:
                found.append(inspect_file(machine, path, authorities, publishers()))
        except FundamenError:
            continue  # no file that could be signed
    return iter(sorted(found, key=is_trusted))


def is_trusted(inspection: Inspection) -> bool:
    """Whether a file's signer is trusted on its machine, or it has no signature."""
    return inspection.publisher is None or inspection.publisher.verdict not in {"untrusted", "tampered"}


def _named_files(machine: Machine, reading: Reading) -> Iterator[MachinePath]:
    """The files that a text names and that are on the machine: by their paths, or beside a path by their names."""
    paths = [machine.absolute_path(mention.text) for mention in reading.mentions if mention.kind is MentionKind.PATH]
    names = [
        m.text for m in reading.mentions if m.kind in {MentionKind.PACKAGE, MentionKind.PROGRAM, MentionKind.COMPONENT}
    ]
    beside = [machine.join(machine.folder_of(path), name) for path in paths for name in names]
    for path in dict.fromkeys([*paths, *map(machine.absolute_path, names), *beside]):
        if machine.look(path).kind is EntryKind.FILE:
            yield path


def _reason_of_trust(machine: Machine, inspection: Inspection) -> Message:
    publisher, name = inspection.publisher, machine.paths.basename(inspection.path)
    if publisher is None or is_trusted(inspection):
        return say("clues.is-trusted-on-this-machine-now", name=name)
    return say("clues.is-not-accepted", name=name, reason=publisher.reason)


def _trace_named(machine: Machine, reading: Reading, authorities: Sequence[Authority]) -> Iterator[Trace]:
    """The traces of the programs that a text names, as far as they are on the machine; failing ones first."""
    found: list[Trace] = []
    there = (path for path in dict.fromkeys(_programs(machine, reading)) if machine.look(path).kind is EntryKind.FILE)
    database = (STATUS,) if _is_about_packages(reading) and find_database_damage(machine) is not None else ()
    for path in dict.fromkeys(
        (*database, *_find_lists(machine, reading), *_lost_commands(machine, reading), *islice(there, _MOST_TRACED))
    ):
        if any(path == each.path for trace in found if trace.format is Format.LAUNCHER for each in trace.components):
            continue  # its unit says with which variables and for which user it is started
        try:
            found.append(with_hints(machine, trace_program(machine, path, authorities), authorities, path))
        except FundamenError:
            continue  # what is no program after all; its place is reported below
    if reading.decisive is not None and not any(trace.faults for trace in found):
        for trace in tuple(found):
            found += (each for each in trace_starters(machine, trace.program, authorities) if each.faults)
    seen: set[MachinePath] = set()
    for trace in sorted(found, key=lambda trace: not trace.faults):
        if trace.format is not Format.INSTALLED or machine.real(trace.program) not in seen:  # each fault is shown once
            yield trace
        seen.update(_places_of_faults(machine, trace))


def _places_of_faults(machine: Machine, trace: Trace) -> Iterator[MachinePath]:
    """The files that are at fault."""
    for fault in trace.faults:
        passed_over = (each.path for each in fault.searched if each.outcome is not CandidateOutcome.ABSENT)
        yield from map(machine.real, (*([fault.path] if fault.path is not None else []), *passed_over))


def _is_about_packages(reading: Reading) -> bool:
    """Whether the package manager speaks in the line that decides."""
    return reading.decisive is not None and _PACKAGE_MANAGER.match(reading.decisive.text) is not None


def _find_lists(machine: Machine, reading: Reading) -> Iterator[MachinePath]:
    """Files that a text names and no package has brought: a bundle of certificates that is gone, a list to preload."""
    paths = {mention.text for mention in reading.mentions if mention.kind is MentionKind.PATH}
    if PRELOAD in paths and find_unloadable(machine):
        yield PRELOAD
    if BUNDLE in paths and machine.look(BUNDLE).kind is EntryKind.ABSENT:
        yield BUNDLE


def _lost_commands(machine: Machine, reading: Reading) -> Iterator[MachinePath]:
    """Where the commands were that a text names, and that a package or an alternative had."""
    decisive = reading.decisive
    named = [decisive.holes[name] for name in ("program", "component") if decisive and name in decisive.holes]
    is_about_command = decisive is not None and decisive.entry is not None and decisive.entry.id == _NO_COMMAND
    for name in filter(is_command, named):
        path = find_program_or_lost(machine, name, asks_archive=is_about_command)
        if machine.look(path).kind is EntryKind.ABSENT and path != machine.absolute_path(name):
            yield path


def _programs(machine: Machine, reading: Reading) -> Iterator[MachinePath]:
    decisive = reading.decisive
    named = [decisive.holes[name] for name in ("program", "component", "path") if decisive and name in decisive.holes]
    yield from _units(machine, reading)
    programs = {mention.text for mention in reading.mentions if mention.kind is MentionKind.PROGRAM}
    named += sorted(programs)
    paths = [mention.text for mention in reading.mentions if mention.kind is MentionKind.PATH]
    for name in named:
        yield from (
            machine.absolute_path(path) for path in paths if plain_name(path).lower() == plain_name(name).lower()
        )
        yield find_program(machine, name)
        if name in programs and plain_name(name) == name and not machine.is_live:  # no one's PATH is known there
            wanted = machine.fold(name)
            for folder, entries in folders_of_system(machine, reading, ()):
                yield from (machine.join(folder, entry) for entry in entries if machine.fold(entry) == wanted)
    reported_by = _SHELL.match(decisive.text) if decisive is not None else None
    shell = reported_by[1] if reported_by is not None else ""
    yield from (machine.absolute_path(path) for path in paths if path != shell)


def _units(machine: Machine, reading: Reading) -> Iterator[MachinePath]:
    """The units of systemd that the causes are about."""
    causes = (each for each in (reading.decisive, *reading.also, *reading.follows) if each is not None)
    for name in dict.fromkeys(each.holes["service"] for each in causes if "service" in each.holes):
        if (unit := find_launcher(machine, f"{name}.service")) is not None:
            yield unit


def _components(reading: Reading) -> list[str]:
    """The names of the components that the causes are about."""
    causes = [each for each in (reading.decisive, *reading.also) if each is not None]
    names = [plain_name(each.holes["component"]) for each in causes if "component" in each.holes]
    return list(dict.fromkeys(name for name in names if "." in name))
