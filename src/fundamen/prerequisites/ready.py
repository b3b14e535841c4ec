"""The ready sheets that come with Fundamen: starting points for common kinds of programs."""

import os

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
            what=f"There is no ready sheet {printable(name)}",
            why=f"there are {', '.join(ready_names())}",
            do="Name one of these.",
        )
    return HostPath(os.path.join(_FOLDER, name + _ENDING))
