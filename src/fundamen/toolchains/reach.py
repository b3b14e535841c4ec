"""How a toolchain is reached: PATH, the variables of the environment, and who still uses what was there before.

Sources: POSIX, XBD 8.3 ("PATH"); proc(5), map_files, fd and exe.
"""

from collections.abc import Iterator, Sequence

import msgspec

from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.open_files import User, find_users, find_users_of_lost
from fundamen.machine.programs import path_folders, places_on_path
from fundamen.model.paths import HostPath, MachinePath
from fundamen.toolchains.catalogue import FOLDER, Toolchain
from fundamen.toolchains.contents import ToolchainContents


class PathState(msgspec.Struct, frozen=True):
    """One folder of the toolchain that belongs on PATH."""

    folder: MachinePath
    count: int  # how often it is on PATH; a link to it is an entry of it as well


class ShadowedTool(msgspec.Struct, frozen=True):
    """A command of the toolchain of which another copy is found first."""

    name: str
    first: MachinePath


class VariableState(msgspec.Struct, frozen=True):
    """A variable that is not as the toolchain needs it."""

    name: str
    needed: str
    found: str | None  # None where it is not set


class Reach(msgspec.Struct, frozen=True):
    """The paths that lead to a toolchain on a machine."""

    is_known: bool  # False on a machine whose environment is not known: then PATH and variables were not looked at
    paths: tuple[PathState, ...]  # those that are not on PATH exactly once
    shadowed: tuple[ShadowedTool, ...]
    variables: tuple[VariableState, ...]
    users: tuple[User, ...]  # programs that still use files that are of no or another version, or are no longer there

    @property
    def is_right(self) -> bool:
        """Whether the toolchain is found, and found first."""
        return not (self.paths or self.shadowed or self.variables)


def examine_reach(machine: Machine, folder: MachinePath, toolchain: Toolchain, contents: ToolchainContents) -> Reach:
    """Look how a toolchain is reached on a machine, as this account would start it."""
    on_path = [machine.join(folder, place) for place in toolchain.path]
    is_known = machine.is_live or "PATH" in machine.environment
    shadowed = tuple(_shadowed_tools(machine, on_path, _commands(toolchain, contents))) if is_known else ()
    return Reach(
        is_known=is_known,
        paths=tuple(_wrong_paths(machine, on_path)) if is_known else (),
        shadowed=shadowed,
        variables=tuple(_wrong_variables(machine, folder, toolchain)) if is_known else (),
        users=_users(machine, folder, contents, [tool.first for tool in shadowed]),
    )


def _wrong_paths(machine: Machine, on_path: Sequence[MachinePath]) -> Iterator[PathState]:
    entries = [machine.real(machine.join(entry)) for entry in path_folders(machine) if machine.paths.isabs(entry)]
    for folder in on_path:
        count = sum(1 for entry in entries if machine.fold(entry) == machine.fold(machine.real(folder)))
        if count != 1:
            yield PathState(folder, count)


def _commands(toolchain: Toolchain, contents: ToolchainContents) -> list[str]:
    """The names under which the commands of this host's parts are called."""
    folders = {"" if place == "." else place for place in toolchain.path}
    places = (place for state in contents.parts for place, file in state.part.files.items() if file.executable)
    names = (place.rpartition("/") for place in places)
    return list(dict.fromkeys(name.removesuffix(".exe") for above, _, name in names if above in folders))


def _shadowed_tools(
    machine: Machine, on_path: Sequence[MachinePath], commands: Sequence[str]
) -> Iterator[ShadowedTool]:
    own = {machine.fold(machine.real(folder)) for folder in on_path}
    for name in commands:
        for path, entry in places_on_path(machine, name):
            if entry.kind is not EntryKind.FILE or not entry.is_executable:
                continue
            if machine.fold(machine.real(machine.folder_of(path))) not in own:
                yield ShadowedTool(name, path)
            break


def _wrong_variables(machine: Machine, folder: MachinePath, toolchain: Toolchain) -> Iterator[VariableState]:
    for variable in toolchain.environment:
        needed = variable.value.replace(FOLDER, folder)
        found = machine.environment.get(variable.name)
        if found != needed and not (found and machine.paths.isabs(found) and _is_same(machine, found, needed)):
            yield VariableState(variable.name, needed, found)


def _is_same(machine: Machine, one: str, other: str) -> bool:
    paths = (machine.real(machine.join(path)) for path in (one, other))
    return len({machine.fold(path) for path in paths}) == 1


def _users(
    machine: Machine, folder: MachinePath, contents: ToolchainContents, shadows: Sequence[MachinePath]
) -> tuple[User, ...]:
    """Those that run or have open what is wrong, what shadows it, or what was replaced since and is no longer there."""
    if not machine.is_live:
        return ()
    places = [file.place for state in contents.parts for file in state.files]
    places += [leftover.place for leftover in contents.leftovers]
    wrong = [machine.join(folder, *place.split("/")) for place in places]
    users = find_users([machine.host_path(path) for path in (*wrong, *shadows)])
    lost = find_users_of_lost(HostPath(machine.host_path(machine.real(folder))))
    return tuple({user.pid: user for user in (*users, *lost)}.values())
