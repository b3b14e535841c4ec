"""Find the programs to restart after a change, and decide whether a waiting installer may continue.

Nothing is advised that is not needed: each rule names what keeps the old state, and is told only where that is there.
Sources: proc(5), environ and maps; pam_env(8) and pam_limits(8) for what a session reads as it begins; sysctl(8);
systemd.unit(5), "Unit File Load Path"; ld.so(8) and ldconfig(8).
"""

import os
import shlex
from collections.abc import Iterable, Iterator, Sequence
from typing import Literal

import msgspec

from fundamen.changes.base import Step, Work
from fundamen.machine.machine import Machine
from fundamen.machine.open_files import User, find_running, find_users, holds_lock, process_of
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.model.paths import HostPath

_MOST_TOLD = 3
_READ_AT_LOGIN = ("/etc/environment", "/etc/profile", "/etc/profile.d/", "/etc/login.defs", "/etc/security/")
_KERNEL = ("/etc/sysctl.conf", "/etc/sysctl.d/", "/usr/lib/sysctl.d/", "/usr/local/lib/sysctl.d/")
_UNITS = ("/etc/systemd/system/", "/usr/lib/systemd/system/", "/lib/systemd/system/")
_LOADER = ("/etc/ld.so.conf", "/etc/ld.so.conf.d/")


class Restart(msgspec.Struct, frozen=True):
    """One thing that is to be done, and why."""

    what: str  # a command, or words
    why: str


class Waiting(msgspec.Struct, frozen=True):
    """An installer that waits, as the technician names it, and what it may do now."""

    name: str
    verdict: Literal["may continue", "must be started again", "must not be touched"]
    why: str


def find_restarts(machine: Machine, work: Work) -> tuple[Restart, ...]:
    """Find the programs to restart after some work; it is called before, while the old files are known."""
    if machine.platform is Platform.WINDOWS:
        return tuple(_of_registry(machine, work.steps))
    if not machine.is_live:
        return ()  # whatever starts there later starts with what it finds
    users = find_users(_in_use(machine, work))
    program = HostPath(work.program)
    if any(step.is_setting and step.replaces for step in work.steps):  # a program that runs has read them already
        known = {user.pid for user in users}
        users = (*users, *(user for user in find_running(program) if user.pid not in known))
    return (*_of_users(users), *_of_places([str(step.path) for step in work.steps]), *_of_entries(work.steps))


def judge_waiting(machine: Machine, work: Work, named: str) -> Waiting:
    """Whether an installer that waits may go on once some work is done; looked for before it is.

    Args:
        machine: on which it waits; this host.
        work: what is done meanwhile.
        named: its process number, or its name.

    Raises:
        UsageError: it cannot be looked for here.
    """
    if not machine.is_live or machine.platform is not Platform.LINUX:
        raise UsageError(
            what=f"The installer {printable(named)} cannot be looked at",
            why=f"it does not run on this host, but on {machine.title}",
            do="Leave --waiting out, or run the same command there.",
        )
    process = process_of(named)
    if process is None:
        return Waiting(named, "must be started again", "it has ended; what it had done so far it finds by itself")
    told = f"{process.name} (process {process.pid})"
    if lock := holds_lock(process.pid):
        return Waiting(told, "must not be touched", f"it holds {lock}, so it is in the middle of its work")
    if any(user.pid == process.pid for user in find_users(_in_use(machine, work))):
        return Waiting(
            told, "must be started again", "it has a file loaded or open that is replaced, and keeps the old one"
        )
    if any(step.brings_certificate for step in work.steps):
        why = "what it has read of the authority's old certificate does not hold any more, or not for long"
        return Waiting(told, "must be started again", why)
    at_login = next((p for p in _paths(work) if _is_in(p, _READ_AT_LOGIN)), None)
    if at_login is not None:
        why = f"{at_login} is read at log-in: it keeps its environment and limits from when it was started"
        return Waiting(told, "must be started again", f"{why}; log in again first")
    return Waiting(told, "may continue", "it reads the changed files again; choose to try again in its window")


def _in_use(machine: Machine, work: Work) -> list[HostPath]:
    """Entries that go, and that running programs may have open."""
    return [entry for step in work.steps if (entry := step.in_use(machine)) is not None]


def _paths(work: Work) -> list[str]:
    return [str(step.path) for step in work.steps]


def _is_in(path: str, places: Sequence[str]) -> bool:
    return any(path == place or (place.endswith("/") and path.startswith(place)) for place in places)


def _of_users(users: Iterable[User]) -> Iterator[Restart]:
    services: dict[str, None] = {}
    programs: dict[str, list[int]] = {}
    for user in users:
        if user.service:
            services[user.service] = None
        else:
            programs.setdefault(user.name, []).append(user.pid)
    for name in services:
        yield Restart(f"systemctl restart {shlex.quote(name)}", "it still uses the old files")
    for name, pids in programs.items():
        told = ", ".join(str(pid) for pid in pids[:_MOST_TOLD]) + (" ..." if len(pids) > _MOST_TOLD else "")
        yield Restart(f"restart {name} (process {told})", "it still uses the old files")


def _of_places(paths: Sequence[str]) -> Iterator[Restart]:
    """Programs that keep the old state of changed system files."""
    if path := next((p for p in paths if _is_in(p, _UNITS)), None):
        yield Restart("systemctl daemon-reload", f"{os.path.basename(path)} is read only then")
    if path := next((p for p in paths if _is_in(p, _KERNEL)), None):
        yield Restart("sysctl --system", f"{path} is read when the system starts, or by this")
    if path := next((p for p in paths if _is_in(p, _LOADER)), None):
        yield Restart("ldconfig", f"the loader has a list of the folders in {path}, and this command updates it")
    if path := next((p for p in paths if _is_in(p, _READ_AT_LOGIN)), None):
        yield Restart("log in again", f"sessions that are open have read {path} already")


def _of_entries(steps: Sequence[Step]) -> Iterator[Restart]:
    """Programs that have read a directory entry before its change; none keep anything of a host that it names."""
    for step in steps:
        if step.brings_certificate:
            what = "start over whatever waits for the authority and had read its certificate already"
            yield Restart(what, f"it keeps the old one of {step.path.removeprefix('/')}")


def _of_registry(machine: Machine, steps: Sequence[Step]) -> Iterator[Restart]:
    """A registry that we may change is in no use: a service that was enabled comes up with the next start."""
    service = next(filter(None, (step.enables_service for step in steps)), "")
    if service:
        yield Restart(f"start {machine.title}", f"the service {service} comes up with it")
