"""The ready sheets that come with Fundamen: starting points for common kinds of programs."""

import os

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.model.paths import HostPath

_FOLDER = os.path.join(os.path.dirname(os.path.abspath(__file__)), "sheets")
_ENDING = ".toml"


def ready_names() -> tuple[str, ...]:
    """The names of all ready sheets."""
    return tuple(sorted(name.removesuffix(_ENDING) for name in os.listdir(_FOLDER) if name.endswith(_ENDING)))


def ready_path(name: str) -> HostPath:
    """Where a ready sheet lies. Raises: UsageError: there is none of this name."""
    if name not in ready_names():
        raise UsageError(
            what=say("prerequisites.there-is-no-ready-sheet", name=printable(name)),
            why=say("prerequisites.there-are", ready_names=", ".join(ready_names())),
            do=say("prerequisites.name-one-of-these"),
        )
    return HostPath(os.path.join(_FOLDER, name + _ENDING))
