"""Commands that can be pasted: what a page offers as the next step."""

import shlex
from collections.abc import Sequence

from fundamen.machine.machine import Machine
from fundamen.messages import UNSAID, Message, as_command, say
from fundamen.model.display import printable

_GROUPS = {"sources", "cold-copies", "plans", "roots", "references", "locks"}  # commands whose name has a second word
_JUDGING_RIGHTS = {"inspect", "restore", "survey", "trace"}  # commands whose answer may differ from user to user


def command(machine: Machine, *words: str) -> Message:
    """A fundamen command for a machine, quoted for a shell."""
    place = [] if machine.is_live else ["--machine", machine.root]
    if machine.run_as is not None and words[0] in _JUDGING_RIGHTS:
        place += ["--as", machine.run_as.name]
    group = 2 if words[0] in _GROUPS else 1  # the options come behind the whole name of a command
    return as_command(printable(shlex.join(["fundamen", *words[:group], *place, *words[group:]])))


def change_command(machine: Machine, *words: str) -> Message:
    """A command that changes a machine; one that is known from a capture is changed where it is."""
    if not machine.is_captured:
        return command(machine, *words)
    return say("report.on-that-machine", line=printable(shlex.join(["fundamen", *words])))


def import_command(machine: Machine, path: str, issuers: Sequence[str] = ()) -> Message:
    """The command that imports the root in which a file's chain ends, once its fingerprint was read out.

    Args:
        machine: into whose store.
        path: of the file; empty for a server, whose root lies in the first file of issuers, if there is one.
        issuers: the files of certificates that the chain was built with.
    """
    if not path and not issuers:
        return UNSAID
    given = [word for file in (issuers if path else issuers[1:]) for word in ("--issuer", file)]
    return command(machine, "roots", "import", "--fingerprint", "SHA256", *given, path or issuers[0])
