"""Find what every user of a machine misses at once: commands that cannot be run, trusted certificates that are gone.

Sources: update-alternatives(1); execve(2); update-ca-certificates(8).
"""

from collections.abc import Iterator

import msgspec

from fundamen.evidence.alternatives import alternative_names, find_alternative
from fundamen.evidence.certificate_bundle import BUNDLE, bundle_of
from fundamen.evidence.dpkg import find_listed
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.programs import path_folders
from fundamen.messages import Message, say
from fundamen.model.architecture import Platform
from fundamen.model.binary import BinaryKind
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_MOST_NAMES = 20_000


class Unusable(msgspec.Struct, frozen=True):
    """Something that ``restore`` can repair by its path."""

    path: MachinePath
    why: Message


def find_unusable(machine: Machine) -> tuple[Unusable, ...]:
    """Alternatives that lead to nothing, programs of packages that no user may execute, a bundle of certificates."""
    if machine.platform is not Platform.LINUX or machine.is_captured:
        return ()
    return (*_alternatives(machine), *_programs(machine), *_bundle(machine))


def _alternatives(machine: Machine) -> Iterator[Unusable]:
    for name in alternative_names(machine)[:_MOST_NAMES]:
        alternative = find_alternative(machine, name)
        if alternative is None or not alternative.choices:
            continue
        if machine.look(alternative.link).kind is EntryKind.ABSENT:
            yield Unusable(alternative.link, say("survey.its-alternative-leads-to-nothing"))


def _programs(machine: Machine) -> Iterator[Unusable]:
    """Programs in the folders of PATH that have lost the right to be run; a package has brought them."""
    found: list[MachinePath] = []
    for folder in dict.fromkeys(machine.real(machine.join(each)) for each in path_folders(machine) if each[:1] == "/"):
        try:
            names = machine.names(folder)[:_MOST_NAMES]
        except UnreadableError:
            continue
        for path in (machine.join(folder, name) for name in names):
            entry = machine.look(path)
            if entry.kind is EntryKind.FILE and not entry.is_executable and _is_program(machine, path):
                found.append(path)
    owned = {machine.real(path) for _, path in find_listed(machine, found, ())} if found else set()
    for path in found:
        if machine.real(path) in owned:
            yield Unusable(path, say("survey.no-user-may-execute-it"))


def _is_program(machine: Machine, path: MachinePath) -> bool:
    try:
        return machine.binary(path).kind is BinaryKind.PROGRAM
    except UnreadableError:
        return False


def _bundle(machine: Machine) -> Iterator[Unusable]:
    entry = machine.look(BUNDLE)
    if (entry.kind is EntryKind.ABSENT or (entry.kind is EntryKind.FILE and not entry.size)) and bundle_of(machine):
        yield Unusable(BUNDLE, say("survey.no-program-finds-a-trusted-certificate"))
