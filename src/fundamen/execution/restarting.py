"""Find the programs to restart after a change, and decide whether a waiting installer may continue.

Nothing is advised that is not needed: each rule names what keeps the old state, and is reported only where that is
there. Sources: proc(5), environ and maps; pam_env(8) and pam_limits(8) for what a session reads as it begins;
sysctl(8); systemd.unit(5), "Unit File Load Path"; ld.so(8) and ldconfig(8).
"""

import os
import shlex
from collections.abc import Iterable, Iterator, Sequence
from typing import Literal

import msgspec

from fundamen.changes.base import Step, Work
from fundamen.machine.machine import Machine
from fundamen.machine.open_files import User, find_running, find_users, holds_lock, process_of
from fundamen.messages import Message, say
from fundamen.model.architecture import Platform
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.model.paths import HostPath

_MOST_PROCESSES = 3
_READ_AT_LOGIN = ("/etc/environment", "/etc/profile", "/etc/profile.d/", "/etc/login.defs", "/etc/security/")
_KERNEL = ("/etc/sysctl.conf", "/etc/sysctl.d/", "/usr/lib/sysctl.d/", "/usr/local/lib/sysctl.d/")
_UNITS = ("/etc/systemd/system/", "/usr/lib/systemd/system/", "/lib/systemd/system/")
_LOADER = ("/etc/ld.so.conf", "/etc/ld.so.conf.d/")


class Restart(msgspec.Struct, frozen=True):
    """One thing that is to be done, and why."""

    what: Message  # a command, or words
    why: Message


class Waiting(msgspec.Struct, frozen=True):
    """An installer that waits, as the technician names it, and what it may do now."""

    name: str
    verdict: Literal["may continue", "must be started again", "must not be touched"]
    why: Message


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
            what=say("execution.the-installer-cannot-be-looked-at", named=printable(named)),
            why=say("execution.it-does-not-run-on-this", title=machine.title),
            do=say("execution.leave-waiting-out-or-run-the"),
        )
    process = process_of(named)
    if process is None:
        return Waiting(named, "must be started again", say("execution.it-has-ended-what-it-had"))
    label = say("execution.process", name=process.name, pid=process.pid)
    if lock := holds_lock(process.pid):
        return Waiting(label, "must not be touched", say("execution.it-holds-so-it-is-in", lock=lock))
    if any(user.pid == process.pid for user in find_users(_in_use(machine, work))):
        return Waiting(label, "must be started again", say("execution.it-has-a-file-loaded-or"))
    if any(step.brings_certificate for step in work.steps):
        why = say("execution.what-it-has-read-of-the")
        return Waiting(label, "must be started again", why)
    at_login = next((p for p in _paths(work) if _is_in(p, _READ_AT_LOGIN)), None)
    if at_login is not None:
        why = say("execution.is-read-at-log-in-it", at_login=at_login)
        return Waiting(label, "must be started again", say("execution.log-in-again-first", why=why))
    return Waiting(label, "may continue", say("execution.it-reads-the-changed-files-again"))


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
        yield Restart(
            say("execution.systemctl-restart", name=shlex.quote(name)), say("execution.it-still-uses-the-old-files")
        )
    for name, pids in programs.items():
        label = ", ".join(str(pid) for pid in pids[:_MOST_PROCESSES]) + (" ..." if len(pids) > _MOST_PROCESSES else "")
        yield Restart(
            say("execution.restart-process", name=name, number=label), say("execution.it-still-uses-the-old-files")
        )


def _of_places(paths: Sequence[str]) -> Iterator[Restart]:
    """Programs that keep the old state of changed system files."""
    if path := next((p for p in paths if _is_in(p, _UNITS)), None):
        yield Restart(
            say("execution.systemctl-daemon-reload"),
            say("execution.is-read-only-then", file=os.path.basename(path)),
        )
    if path := next((p for p in paths if _is_in(p, _KERNEL)), None):
        yield Restart(say("execution.sysctl-system"), say("execution.is-read-when-the-system-starts", path=path))
    if path := next((p for p in paths if _is_in(p, _LOADER)), None):
        yield Restart(say("execution.ldconfig"), say("execution.the-loader-has-a-list-of", path=path))
    if path := next((p for p in paths if _is_in(p, _READ_AT_LOGIN)), None):
        yield Restart(say("execution.log-in-again"), say("execution.sessions-that-are-open-have-read", path=path))


def _of_entries(steps: Sequence[Step]) -> Iterator[Restart]:
    """Programs that have read a directory entry before its change; none keep anything of a host that it names."""
    for step in steps:
        if step.brings_certificate:
            what = say("execution.start-over-whatever-waits-for-the")
            yield Restart(what, say("execution.it-keeps-the-old-one-of", path=step.path.removeprefix("/")))


def _of_registry(machine: Machine, steps: Sequence[Step]) -> Iterator[Restart]:
    """A registry that we may change is in no use: a service that was enabled comes up with the next start."""
    service = next(filter(None, (step.enables_service for step in steps)), "")
    if service:
        yield Restart(
            say("execution.start", title=machine.title), say("execution.the-service-comes-up-with-it", service=service)
        )
