"""Commands that can be pasted: what a page offers as the next step."""

import shlex

from fundamen.machine.machine import Machine
from fundamen.model.paths import shown


def command(machine: Machine, *words: str) -> str:
    """A fundamen command for a machine, quoted for a shell."""
    place = [] if machine.root == "/" else ["--machine", machine.root]
    return shown(shlex.join(["fundamen", words[0], *place, *words[1:]]))
