"""The step that starts a service of this host, by systemd's own tool.

Its inverse stops the service, if it was not running before. Source: systemctl(1), "start", "stop", "is-active".
"""

import shutil

from fundamen.machine.host_tools import run_tool
from fundamen.machine.machine import Machine
from fundamen.model.errors import UsageError
from fundamen.model.paths import MachinePath, shown
from fundamen.restore.records import ServiceRecord
from fundamen.restore.steps import StartService

_SECONDS = 120
_MOST_TOLD = 300  # characters
_RUNNING = {"active", "reloading"}


def plan_start(machine: Machine, name: str, because: str) -> StartService | None:
    """The step that starts a service; None where it runs.

    Raises:
        UsageError: it cannot be started from here.
        OSError: the tool cannot be run.
    """
    if not machine.is_live or shutil.which("systemctl") is None:
        why = "this machine does not run" if not machine.is_live else "this host has no systemd"
        raise _refusal(name, why, "Have it enabled instead: it is then started with the machine.")
    if "." not in name.strip(".") or name.startswith("-"):
        raise _refusal(name, "that is no name of a unit", "Name it with its kind, such as tide.service.")
    status, said = _run("show", "--property=LoadState", "--value", "--", name)
    if status != 0:
        words = shown(said.strip().partition("\n")[0][:_MOST_TOLD]) or "it says nothing"
        raise _refusal(
            name,
            f"systemd does not answer here: {words}",
            "Have it enabled instead: it is then started with the machine.",
        )
    if said.strip() == "not-found":
        raise _refusal(
            name, "the machine has no unit of this name", "See that the package which brings it is installed."
        )
    state = _state(name)
    if state in _RUNNING:
        return None
    path = MachinePath(f"/etc/systemd/system/{name}")
    return StartService(path=path, because=because or f"it is {state or 'not running'}", name=name)


def keep(step: StartService) -> ServiceRecord:
    """Write down whether it runs; nothing is changed. Raises: OSError."""
    return ServiceRecord(path=step.path, name=step.name, was_running=_state(step.name) in _RUNNING)


def start(record: ServiceRecord) -> None:
    """Start it. Raises: OSError: it does not start, in the tool's own words."""
    status, said = _run("start", "--", record.name)
    if status != 0 or not is_running(record):
        raise OSError(0, f"it does not start: {shown(said.strip()[:_MOST_TOLD]) or _state(record.name)}", record.name)


def is_running(record: ServiceRecord) -> bool:
    """Whether it runs. Raises: OSError."""
    return _state(record.name) in _RUNNING


def stop(record: ServiceRecord) -> None:
    """Stop it, if it was not running before. Raises: OSError."""
    if record.was_running or not is_running(record):
        return
    status, said = _run("stop", "--", record.name)
    if status != 0:
        raise OSError(0, f"it does not stop: {shown(said.strip()[:_MOST_TOLD])}", record.name)


def _state(name: str) -> str:
    """As systemd says it: active, inactive, failed ..."""
    return run_tool(["systemctl", "is-active", "--", name], _SECONDS, apart=True).stdout.strip()


def _run(*words: str) -> tuple[int, str]:
    """(status, what it said). Raises: OSError: it cannot be run, or does not end."""
    ran = run_tool(["systemctl", "--no-ask-password", *words], _SECONDS, apart=True)
    return ran.returncode, ran.stdout + ran.stderr


def _refusal(name: str, why: str, do: str) -> UsageError:
    return UsageError(what=f"The service {shown(name)} cannot be started", why=why, do=f"Nothing was changed. {do}")
