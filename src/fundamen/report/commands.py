"""Commands that can be pasted: what a page offers as the next step."""

import shlex

from fundamen.machine.machine import Machine
from fundamen.model.paths import shown


def command(machine: Machine, *words: str) -> str:
    """A fundamen command for a machine, quoted for a shell."""
    place = [] if machine.is_live else ["--machine", machine.root]
    group = 2 if words[0] == "sources" else 1  # the options come behind the whole name of a command
    return shown(shlex.join(["fundamen", *words[:group], *place, *words[group:]]))
