"""A plan as a file: what is to be done, in words that can be read, changed by hand, and performed elsewhere or later.

Guarantees: a plan names no bytes but by their digest, which a trusted source must have; its paths are the machine's own
and lead nowhere else; each step says what it expects to find, and a plan that no longer fits is refused as a whole.
(docs/formats/plan.md)
"""

from datetime import datetime
from typing import Annotated, Literal

import msgspec

from fundamen.changes.form import Path, Text
from fundamen.changes.kinds import PlannedStep
from fundamen.messages import say
from fundamen.model.display import printable, shown_json
from fundamen.model.encoding import encode_json
from fundamen.model.errors import DamagedFileError, UsageError
from fundamen.model.paths import MachinePath

SCHEMA = "fundamen.plan/1"
_MOST_STEPS = 100_000
_ROOTS = {"HKLM", "HKCU", "HKU"}  # of the registry


class PlanFile(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A plan."""

    schema: Literal["fundamen.plan/1"] = "fundamen.plan/1"
    program: Path
    machine: Text  # for people
    made_at: datetime
    steps: Annotated[tuple[PlannedStep, ...], msgspec.Meta(min_length=1, max_length=_MOST_STEPS)]
    further: Annotated[tuple[Path, ...], msgspec.Meta(max_length=1000)] = ()  # programs that it is for as well
    because: Text = ""  # the reason for a version that was asked for


def read_plan(data: bytes, name: str) -> PlanFile:
    """Read a plan.

    Raises:
        DamagedFileError: it is none, or from a newer version.
        UsageError: a path of it leads elsewhere.
    """
    try:
        plan = msgspec.json.decode(data, type=PlanFile)
    except (msgspec.DecodeError, ValueError, RecursionError) as error:
        raise DamagedFileError(
            what=say("restore.the-plan-cannot-be-used", name=printable(name)),
            why=say("restore.it-is-none-of-the-form", schema=SCHEMA, error=error),
            do=say("restore.make-a-new-one-fundamen-restore"),
        ) from error
    for step in plan.steps:
        require_plain(MachinePath(step.path), name)
    for program in (plan.program, *plan.further):
        require_plain(MachinePath(program), name)
    return plan


def require_plain(path: MachinePath, name: str) -> None:
    """Make sure that a path names its place straight, from the root. Raises: UsageError."""
    parts = path.replace("\\", "/").split("/")
    is_whole = path.startswith("/") or parts[0].endswith(":") or parts[0].upper() in _ROOTS
    if not is_whole or ".." in parts or "\0" in path:
        raise UsageError(
            what=say("restore.the-plan-is-refused", name=printable(name)),
            why=say("restore.its-path-does-not-begin-at", path=printable(path)),
            do=say("restore.nothing-was-changed-write-each-path"),
        )


def plan_bytes(plan: PlanFile) -> bytes:
    """A plan's bytes, to be read by people as well."""
    return shown_json(msgspec.json.format(encode_json(plan), indent=2).decode()).encode() + b"\n"
