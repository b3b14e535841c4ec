"""Find the folder of Fundamen's own state."""

import os
import sys

from fundamen.model.paths import HostPath
from fundamen.placing.own_folder import require_own

_PLATFORM: str = sys.platform  # as a plain string: mypy would call the other platforms' lines unreachable


def state_folder() -> HostPath:
    """The folder of Fundamen's own state: $FUNDAMEN_HOME, or the platform's place for it; of its user alone.

    Raises:
        UsageError: another account could write there, and so decide what we do.
    """
    return own_folder(_usual_folder())


def own_folder(folder: str) -> HostPath:
    """A folder for our own state. Raises: UsageError: another account could write there."""
    path = HostPath(os.path.abspath(folder))
    if hasattr(os, "geteuid"):
        require_own(path, os.geteuid())
    return path


def _usual_folder() -> str:
    if given := os.environ.get("FUNDAMEN_HOME"):
        return given
    if _PLATFORM == "linux":  # the XDG Base Directory Specification in one line, for platformdirs loads slowly
        state = os.environ.get("XDG_STATE_HOME", "")
        return os.path.join(state if os.path.isabs(state) else os.path.expanduser("~/.local/state"), "fundamen")
    from platformdirs import user_state_dir  # noqa: PLC0415

    return user_state_dir("fundamen", appauthor=False)
