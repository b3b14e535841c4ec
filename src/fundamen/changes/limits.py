"""The step that sets a limit of this host's running kernel, or one field of a limit that has several.

A limit that is set counts until the next start; a line in a sysctl file makes it last, which is a step of its own. Its
inverse gives the limit the value that it had. Source: proc(5), /proc/sys; sysctl(8), how names are written.
"""

import os
import re
from typing import Annotated

import msgspec

from fundamen.changes.base import Keeping, Record, Site, Step, Tell
from fundamen.changes.form import Form, Part, PlanResolution, Text
from fundamen.machine.kernel_settings import SYSTEM, setting_path
from fundamen.machine.machine import Machine
from fundamen.messages import Message, say
from fundamen.model.display import printable
from fundamen.model.errors import RestorationError, UnreadableError, UsageError
from fundamen.model.paths import HostPath, MachinePath

_NAME = re.compile(r"^[a-z0-9_]+([./][a-zA-Z0-9_:@-]+)+$")
_MOST = 4096  # bytes of one value


class LimitRecord(Record, frozen=True, kw_only=True, tag_field="kind", tag="limit"):
    """A limit of this host's running kernel is set."""

    undone = "as before"

    name: str
    before: str
    after: str

    def make(self, site: Site, _tell: Tell) -> None:
        """Set it, and see that the kernel has taken it. Raises: OSError: it has not."""
        _write(self.path, self.after)
        if not self.is_made(site):
            raise OSError(
                0, say("changes.the-kernel-made-of", found=read(HostPath(self.path)), after=self.after), self.path
            )

    def is_made(self, _site: Site) -> bool:
        """Whether it is as wanted."""
        return read(HostPath(self.path)).split() == self.after.split()

    def take_back(self, site: Site) -> None:
        """Give it the value that it had, if it has that of ours."""
        if self.is_made(site):
            _write(self.path, self.before)


class ChangeLimit(Step, frozen=True, kw_only=True):
    """One step: a limit of this host's running kernel is set."""

    verb = "change"
    replaces = True

    name: str  # as sysctl writes it
    before: str
    after: str

    @property
    def preview_details(self) -> tuple[str, ...]:
        """Details for a preview."""
        return (say("changes.from-to-until-the-next-start", name=self.name, before=self.before, after=self.after),)

    def keep(self, _keeping: Keeping) -> LimitRecord:
        """Write down what it is and is to be; nothing is changed. Raises: OSError: we may not set it."""
        if not os.access(self.path, os.W_OK):
            raise PermissionError(1, say("changes.setting-a-limit-of-the-kernel"), self.path)
        return LimitRecord(path=self.path, name=self.name, before=self.before, after=self.after)


def plan_limit(machine: Machine, step: "SetLimit") -> ChangeLimit | None:
    """The step that sets a limit; None where it is as wanted.

    Raises:
        UsageError: it cannot be set from here, or there is none of this name or field.
        RestorationError: it is not as the plan expects it.
        UnreadableError: it cannot be read.
    """
    if not machine.is_live or not os.path.isdir(SYSTEM):
        why = say("changes.is-not-the-machine-that-runs", title=machine.title)
        raise _refusal(step.name, why, say("changes.set-it-in-a-file-of"))
    if not _NAME.match(step.name) or ".." in step.name:
        raise _refusal(step.name, say("changes.that-is-no-name-of-a"), say("changes.write-it-as-for-example-kernel"))
    path = setting_path(step.name)
    try:
        before = read(path)
    except FileNotFoundError as error:
        raise _refusal(
            step.name, say("changes.this-kernel-has-no-such-limit"), say("changes.see-what-it-has-sysctl-all")
        ) from error
    except OSError as error:
        raise UnreadableError(
            what=say("changes.the-limit-cannot-be-read", name=printable(step.name)),
            why=error.strerror or str(error),
            do=say("changes.run-the-same-command-as-the"),
        ) from error
    fields = before.split()
    if step.field is not None and step.field >= len(fields):
        raise _refusal(
            step.name, say("changes.it-has-fields", count=len(fields)), say("changes.fields-are-counted-from-0")
        )
    found = before if step.field is None else fields[step.field]
    if found.split() == step.value.split():
        return None
    if step.expects is not None and found.split() != step.expects.split():
        raise RestorationError(
            what=say("changes.the-plan-no-longer-fits-the-machine"),
            why=say("changes.is-and-was-expected", name=step.name, found=found, expects=step.expects),
            do=say("changes.nothing-was-changed-make-a-new-plan"),
        )
    if step.field is not None:
        fields[step.field] = step.value
    after = " ".join(fields if step.field is not None else step.value.split())
    because = step.because or say("changes.it-is-not-as-it-should")
    return ChangeLimit(path=MachinePath(path), because=because, name=step.name, before=before, after=after)


def read(path: HostPath) -> str:
    """A limit's value, its fields parted by blanks. Raises: OSError."""
    with open(path, encoding="ascii", errors="replace") as file:
        return " ".join(file.read(_MOST).split())


def _write(path: str, value: str) -> None:
    with open(path, "w", encoding="ascii") as file:
        file.write(f"{value}\n")


def _refusal(name: str, why: str, do: str) -> UsageError:
    return UsageError(
        what=say("changes.the-limit-cannot-be-set", name=printable(name)),
        why=why,
        do=say("changes.nothing-was-changed", do=do),
    )


class SetLimit(Form, frozen=True, kw_only=True, tag="set kernel limit"):
    """A limit of this host's running kernel is set, or one of its fields; the path is only for people."""

    name: Part  # as sysctl writes it, such as kernel.sem
    value: Annotated[str, msgspec.Meta(pattern="^[0-9a-zA-Z_.+-]+( [0-9a-zA-Z_.+-]+)*$", max_length=1000)]
    field: Annotated[int, msgspec.Meta(ge=0, le=63)] | None = None  # of several, counted from 0; None: all of it
    expects: Text | None = None

    @property
    def title(self) -> Message:
        """Title for the history."""
        return say("changes.the-limit", name=self.name)

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        limit = plan_limit(resolving.machine, self)
        if limit is not None:
            resolving.steps[f"limit {limit.path}"] = limit
