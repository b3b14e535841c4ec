"""The step that sets a limit of this host's running kernel, or one field of a limit that has several.

A limit that is set counts until the next start; a line in a sysctl file makes it last, which is a step of its own. Its
inverse gives the limit the value that it had. Source: proc(5), /proc/sys; sysctl(8), how names are written.
"""

import os
import re

from fundamen.machine.kernel_settings import SYSTEM, setting_path
from fundamen.machine.machine import Machine
from fundamen.model.errors import RestorationError, UnreadableError, UsageError
from fundamen.model.paths import HostPath, MachinePath, shown
from fundamen.restore.plan_file import SetLimit
from fundamen.restore.records import LimitRecord
from fundamen.restore.steps import ChangeLimit

_NAME = re.compile(r"^[a-z0-9_]+([./][a-zA-Z0-9_:@-]+)+$")
_MOST = 4096  # bytes of one value


def plan_limit(machine: Machine, step: SetLimit) -> ChangeLimit | None:
    """The step that sets a limit; None where it is as wanted.

    Raises:
        UsageError: it cannot be set from here, or there is none of this name or field.
        RestorationError: it is not as the plan expects it.
        UnreadableError: it cannot be read.
    """
    if not machine.is_live or not os.path.isdir(SYSTEM):
        why = f"{machine.title} is not the machine that runs here"
        raise _refusal(step.name, why, "Set it in a file of /etc/sysctl.d.")
    if not _NAME.match(step.name) or ".." in step.name:
        raise _refusal(step.name, "that is no name of a limit", "Write it as, for example, kernel.shmmax.")
    path = setting_path(step.name)
    try:
        before = read(path)
    except FileNotFoundError as error:
        raise _refusal(step.name, "this kernel has no such limit", "See what it has: sysctl --all") from error
    except OSError as error:
        raise UnreadableError(
            what=f"The limit {shown(step.name)} cannot be read",
            why=error.strerror or str(error),
            do="Run the same command as the administrator.",
        ) from error
    fields = before.split()
    if step.field is not None and step.field >= len(fields):
        raise _refusal(step.name, f"it has {len(fields)} fields", "Fields are counted from 0.")
    found = before if step.field is None else fields[step.field]
    if found.split() == step.value.split():
        return None
    if step.expects is not None and found.split() != step.expects.split():
        raise RestorationError(
            what="The plan no longer fits the machine",
            why=f"{step.name} is {found}, and {step.expects} was expected",
            do="Nothing was changed. Make the plan anew for the machine as it is now.",
        )
    if step.field is not None:
        fields[step.field] = step.value
    after = " ".join(fields if step.field is not None else step.value.split())
    because = step.because or "it is not as it should be"
    return ChangeLimit(path=MachinePath(path), because=because, name=step.name, before=before, after=after)


def keep(step: ChangeLimit) -> LimitRecord:
    """Write down what it is and is to be; nothing is changed. Raises: OSError: we may not set it."""
    if not os.access(step.path, os.W_OK):
        raise PermissionError(1, "setting a limit of the kernel needs the administrator's rights", step.path)
    return LimitRecord(path=step.path, name=step.name, before=step.before, after=step.after)


def set_limit(record: LimitRecord) -> None:
    """Set it, and see that the kernel has taken it. Raises: OSError: it has not."""
    _write(record.path, record.after)
    if not is_set(record):
        raise OSError(0, f"the kernel made {read(HostPath(record.path))} of {record.after}", record.path)


def is_set(record: LimitRecord) -> bool:
    """Whether it is as wanted. Raises: OSError."""
    return read(HostPath(record.path)).split() == record.after.split()


def give_back(record: LimitRecord) -> None:
    """Give it the value that it had, if it has that of ours. Raises: OSError."""
    if is_set(record):
        _write(record.path, record.before)


def read(path: HostPath) -> str:
    """A limit's value, its fields parted by blanks. Raises: OSError."""
    with open(path, encoding="ascii", errors="replace") as file:
        return " ".join(file.read(_MOST).split())


def _write(path: str, value: str) -> None:
    with open(path, "w", encoding="ascii") as file:
        file.write(f"{value}\n")


def _refusal(name: str, why: str, do: str) -> UsageError:
    return UsageError(what=f"The limit {shown(name)} cannot be set", why=why, do=f"Nothing was changed. {do}")
