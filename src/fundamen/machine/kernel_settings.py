"""The settings of this host's running kernel. Source: proc(5), /proc/sys; sysctl(8), how names are written."""

import os

from fundamen.model.paths import HostPath

SYSTEM = "/proc/sys"
_MOST = 1 << 16  # bytes of one setting


def setting_path(name: str) -> HostPath:
    """Where a setting lies. Whichever of dot and slash comes first parts the name; the other stands for itself."""
    parts = name.split("/") if name.find("/") >= 0 and not 0 <= name.find(".") < name.find("/") else name.split(".")
    return HostPath(os.path.join(SYSTEM, *(part.replace("/", ".") for part in parts)))


def running_value(name: str) -> str | None:
    """The kernel's present value; None where it has no such setting. Raises: OSError: it may not be read."""
    try:
        with open(setting_path(name), encoding="utf-8", errors="replace") as file:
            return file.read(_MOST)
    except (FileNotFoundError, NotADirectoryError):
        return None
