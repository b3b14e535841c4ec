"""The kinds of steps: how what stands there is kept, how each is made, told apart and taken back.

A new kind of step is a class in ``steps.py``, a record in ``records.py``, a module that does these things, and a line
in each of the two tables here.
"""

import os
from collections.abc import Callable, Mapping
from typing import Any, NamedTuple

from fundamen.machine.places import Place
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
    Site,
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

    site: Site
    target: Place
    contents: Mapping[str, HostPath]  # SHA-256 -> our own copy of the new bytes
    kept_folder: HostPath  # where originals are kept
    number: int  # the step's place among all
    look: Callable[[Place], Around]  # what is around a folder


class Kind(NamedTuple):
    """What is done with the record of a kind of step on its site; each may raise OSError."""

    make: Callable[[Any, Site, Tell], object]
    is_made: Callable[[Any, Site], bool]
    take_back: Callable[[Any, Site], object]
    # Why it can be neither made nor taken back; empty where it can.
    obstacle: Callable[[Any, Site], str] = lambda _record, _site: ""


def _silent(make: Callable[[Any, Site], object]) -> Callable[[Any, Site, Tell], object]:
    """What makes a step, and has nothing to tell meanwhile."""
    return lambda record, site, _tell: make(record, site)


def _elsewhere(do: Callable[[Any], Any]) -> Callable[[Any, Site], Any]:
    """What is done with a record of something that stands in no folder of the machine."""
    return lambda record, _site: do(record)


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
    content = keeping.contents.get(step.sha256, HostPath(""))
    kept = HostPath(os.path.join(keeping.kept_folder, f"{os.path.basename(keeping.kept_folder)}-{keeping.number}"))
    return entries.keep(step, keeping.site, keeping.target, content, kept, keeping.look(keeping.target.folder))


_KEPT: Mapping[type, Callable[[Any, Keeping], Record]] = {
    Change: _keep_entry,
    Move: lambda step, k: moves.keep(step, k.site, k.target, k.site.machine.entry_place(step.aside)),
    SetFolder: lambda step, k: folder_steps.keep(step, k.site, k.target),
    InstallPackages: lambda step, k: installing.keep(step, k.site),
    StartService: lambda step, _: starting.keep(step),
    RunInstaller: lambda step, k: publisher_installer.keep(step, k.site, k.kept_folder, k.number),
    ChangeLimit: lambda step, _: kernel.keep(step),
    ChangeEntry: lambda step, k: directory.keep(step, k.site, k.kept_folder, k.number),
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
    ServiceRecord: Kind(
        _silent(_elsewhere(starting.start)), _elsewhere(starting.is_running), _elsewhere(starting.stop)
    ),
    InstallerRecord: Kind(
        publisher_installer.run,
        publisher_installer.has_run,
        publisher_installer.take_back,
        publisher_installer.why_it_must_stay,
    ),
    LimitRecord: Kind(_silent(_elsewhere(kernel.set_limit)), _elsewhere(kernel.is_set), _elsewhere(kernel.give_back)),
    DirectoryRecord: Kind(
        _silent(_elsewhere(directory.change)),
        _elsewhere(directory.is_changed),
        _elsewhere(directory.give_back),
        _elsewhere(directory.obstacle),
    ),
}
