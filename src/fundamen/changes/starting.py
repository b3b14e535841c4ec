"""The step that starts a service of this host, by systemd's own tool.

Its inverse stops the service, if it was not running before. Source: systemctl(1), "start", "stop", "is-active".
"""

import shutil
from functools import partial

from fundamen.changes.base import Keeping, Record, Site, Step, Tell
from fundamen.changes.form import Form, Part, PlanResolution
from fundamen.machine.host_tools import run_tool
from fundamen.machine.machine import Machine
from fundamen.messages import Message, say
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.model.paths import MachinePath

_SECONDS = 120
_LONGEST_QUOTE = 300  # characters
_RUNNING = {"active", "reloading"}


def service_error(verb: str, name: str, why: str, do: str) -> UsageError:
    """Error for a service that cannot be changed; the verb says how, as "started"."""
    return UsageError(
        what=say("changes.the-service-cannot-be", name=printable(name), verb=verb),
        why=why,
        do=say("changes.nothing-was-changed", do=do),
    )


_refusal = partial(service_error, "started")


class ServiceRecord(Record, frozen=True, kw_only=True, tag_field="kind", tag="service"):
    """A service of this host is started."""

    name: str
    was_running: bool

    @property
    def undone(self) -> str:
        """Result of the undo, for people."""
        return "left running" if self.was_running else "stopped"

    def make(self, site: Site, _tell: Tell) -> None:
        """Start it. Raises: OSError: it does not start, in the tool's own words."""
        status, said = _run("start", "--", self.name)
        if status != 0 or not self.is_made(site):
            raise OSError(
                0,
                say("changes.it-does-not-start", said=printable(said.strip()[:_LONGEST_QUOTE]) or _state(self.name)),
                self.name,
            )

    def is_made(self, _site: Site) -> bool:
        """Whether it runs."""
        return _state(self.name) in _RUNNING

    def take_back(self, site: Site) -> None:
        """Stop it, if it was not running before."""
        if self.was_running or not self.is_made(site):
            return
        status, said = _run("stop", "--", self.name)
        if status != 0:
            raise OSError(0, say("changes.it-does-not-stop", said=printable(said.strip()[:_LONGEST_QUOTE])), self.name)


class StartService(Step, frozen=True, kw_only=True):
    """One step: a service of this host is started."""

    verb = "start"

    name: str

    def keep(self, _keeping: Keeping) -> ServiceRecord:
        """Write down whether it runs; nothing is changed. Raises: OSError."""
        return ServiceRecord(path=self.path, name=self.name, was_running=_state(self.name) in _RUNNING)


def plan_start(machine: Machine, name: str, because: str) -> StartService | None:
    """The step that starts a service; None where it runs.

    Raises:
        UsageError: it cannot be started from here.
        OSError: the tool cannot be run.
    """
    if not machine.is_live or shutil.which("systemctl") is None:
        why = (
            say("changes.this-machine-does-not-run") if not machine.is_live else say("changes.this-host-has-no-systemd")
        )
        raise _refusal(name, why, say("changes.have-it-enabled-instead-it-is"))
    if "." not in name.strip(".") or name.startswith("-"):
        raise _refusal(name, say("changes.that-is-no-name-of-a-unit"), say("changes.name-it-with-its-kind-such"))
    status, said = _run("show", "--property=LoadState", "--value", "--", name)
    if status != 0:
        words = printable(said.strip().partition("\n")[0][:_LONGEST_QUOTE]) or say("changes.it-says-nothing")
        raise _refusal(
            name,
            say("changes.systemd-does-not-answer-here", words=words),
            say("changes.have-it-enabled-instead-it-is"),
        )
    if said.strip() == "not-found":
        raise _refusal(
            name,
            say("changes.the-machine-has-no-unit-of"),
            say("changes.see-that-the-package-which-brings"),
        )
    state = _state(name)
    if state in _RUNNING:
        return None
    path = MachinePath(f"/etc/systemd/system/{name}")
    return StartService(path=path, because=because or say("changes.it-is", state=state or "not running"), name=name)


def _state(name: str) -> str:
    """As systemd says it: active, inactive, failed ..."""
    return run_tool(["systemctl", "is-active", "--", name], _SECONDS, apart=True).stdout.strip()


def _run(*words: str) -> tuple[int, str]:
    """(status, what it said). Raises: OSError: it cannot be run, or does not end."""
    ran = run_tool(["systemctl", "--no-ask-password", *words], _SECONDS, apart=True)
    return ran.returncode, ran.stdout + ran.stderr


class ServiceForm(Form, frozen=True, kw_only=True):
    """A plan's step that changes a service; the path is only for people."""

    name: Part

    @property
    def title(self) -> Message:
        """The service, for the history."""
        return say("changes.the-service", name=self.name)


class RunService(ServiceForm, frozen=True, kw_only=True, tag="start service"):
    """Start a service of this host."""

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        start = plan_start(resolving.machine, self.name, self.because)
        if start is not None:
            resolving.steps[f"service {self.name}"] = start
