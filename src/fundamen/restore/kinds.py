"""The kinds of steps: how what stands there is kept, how each is made, told apart and taken back.

A new kind of step is a class in ``steps.py``, a record in ``records.py``, a module that does these things, and a line
in each of the two tables here.
"""

import os
from collections.abc import Callable, Mapping
from typing import Any, NamedTuple

from fundamen.machine.machine import Machine
from fundamen.model.paths import HostPath
from fundamen.restore import directory, entries, folder_steps, installing, kernel, moves, publisher_installer, starting
from fundamen.restore.folders import Around
from fundamen.restore.records import (
    DirectoryRecord,
    EntryRecord,
    FolderRecord,
    InstallerRecord,
    LimitRecord,
    MoveRecord,
    PackagesRecord,
    Record,
    ServiceRecord,
    Tell,
)
from fundamen.restore.steps import (
    Change,
    ChangeEntry,
    ChangeLimit,
    InstallPackages,
    Move,
    RunInstaller,
    SetFolder,
    StartService,
    Step,
)


class Keeping(NamedTuple):
    """What is at hand where something is kept."""

    machine: Machine
    target: HostPath
    contents: Mapping[str, HostPath]  # SHA-256 -> our own copy of the new bytes
    kept_folder: HostPath  # where originals are kept
    number: int  # the step's place among all
    look: Callable[[str], Around]  # what is around a folder


class Kind(NamedTuple):
    """What is done with the record of a kind of step; each may raise OSError."""

    make: Callable[[Any, Tell], object]
    is_made: Callable[[Any], bool]
    take_back: Callable[[Any], object]
    obstacle: Callable[[Any], str] = lambda _record: ""  # why it can be neither made nor taken back; empty where it can


def _silent(make: Callable[[Any], object]) -> Callable[[Any, Tell], object]:
    """What makes a step, and has nothing to tell meanwhile."""
    return lambda record, _tell: make(record)


def keep(step: Step, keeping: Keeping) -> Record:
    """Keep what a step would replace, and write down what it is to do; nothing on the machine is changed.

    Raises:
        OSError: it cannot be kept, or is not as the step has it.
    """
    how = next(how for kind, how in _KEPT.items() if isinstance(step, kind))
    return how(step, keeping)


def kind_of(record: Record) -> Kind:
    """What is done with a record."""
    return _KINDS[type(record)]


def _keep_entry(step: Change, keeping: Keeping) -> Record:
    name = f"{os.path.basename(keeping.kept_folder)}-{keeping.number}"
    content = keeping.contents.get(step.sha256, HostPath(""))
    place = keeping.look(os.path.dirname(keeping.target))
    return entries.keep(step, keeping.target, content, name, keeping.kept_folder, place)


_KEPT: Mapping[type, Callable[[Any, Keeping], Record]] = {
    Change: _keep_entry,
    Move: lambda step, k: moves.keep(step, k.target, k.machine.host_path(step.aside)),
    SetFolder: lambda step, k: folder_steps.keep(step, k.target),
    InstallPackages: lambda step, k: installing.keep(step, k.machine),
    StartService: lambda step, _: starting.keep(step),
    RunInstaller: lambda step, k: publisher_installer.keep(step, k.machine, k.kept_folder, k.number),
    ChangeLimit: lambda step, _: kernel.keep(step),
    ChangeEntry: lambda step, k: directory.keep(step, k.kept_folder, k.number),
}

_KINDS: Mapping[type, Kind] = {
    EntryRecord: Kind(_silent(entries.make_entry), entries.is_made, entries.take_back_entry, entries.obstacle),
    MoveRecord: Kind(_silent(moves.make_move), moves.is_moved, moves.take_back_move, moves.obstacle),
    FolderRecord: Kind(
        _silent(folder_steps.make_folder), folder_steps.is_made, folder_steps.take_back_folder, folder_steps.obstacle
    ),
    PackagesRecord: Kind(
        _silent(installing.install), installing.are_installed, installing.purge, installing.why_they_must_stay
    ),
    ServiceRecord: Kind(_silent(starting.start), starting.is_running, starting.stop),
    InstallerRecord: Kind(
        publisher_installer.run,
        publisher_installer.has_run,
        publisher_installer.take_back,
        publisher_installer.why_it_must_stay,
    ),
    LimitRecord: Kind(_silent(kernel.set_limit), kernel.is_set, kernel.give_back),
    DirectoryRecord: Kind(_silent(directory.change), directory.is_changed, directory.give_back, directory.obstacle),
}
