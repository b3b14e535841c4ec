"""Where the units of systemd lie on a machine. Source: systemd.unit(5), "Unit File Load Path"; systemctl(1), "mask"."""

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.paths import MachinePath

UNIT_FOLDERS = tuple(
    map(
        MachinePath,
        (
            "/etc/systemd/system",
            "/run/systemd/system",
            "/usr/local/lib/systemd/system",
            "/usr/lib/systemd/system",
            "/lib/systemd/system",
        ),
    )
)


def find_unit(machine: Machine, name: str) -> MachinePath | None:
    """The file of a unit, or of the template that it is an instance of, or the link that masks it; None for none."""
    prefix, at, rest = name.partition("@")
    names = [name, f"{prefix}@.{rest.rpartition('.')[2]}"] if at else [name]
    places = (machine.join(folder, each) for each in names for folder in UNIT_FOLDERS)
    return next((path for path in places if is_masked(machine, path) or _is_file(machine, path)), None)


def is_masked(machine: Machine, path: MachinePath) -> bool:
    """Whether a unit's file is the link that masks it. On a machine that does not run, nothing stands at its end."""
    return machine.real(path) == "/dev/null"


def _is_file(machine: Machine, path: MachinePath) -> bool:
    return machine.look(path).kind is EntryKind.FILE
