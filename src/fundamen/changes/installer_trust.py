"""May a publisher's installer be run? Only one that its publisher has signed, whom the machine or this host trusts."""

import os
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Annotated

import msgspec

from fundamen.changes.form import Form, PlanResolution, Text
from fundamen.changes.installers import RunInstaller
from fundamen.machine.machine import Machine
from fundamen.model.display import printable
from fundamen.model.errors import UntrustedError, UsageError
from fundamen.model.package import Sha256
from fundamen.model.paths import HostPath, MachinePath
from fundamen.trace.observing_prefix import find_wine, require_usable
from fundamen.trust.digest import digest_of

_PASSED_ON = (
    "DISPLAY",
    "HOME",
    "LANG",
    "LC_ALL",
    "LOGNAME",
    "PATH",
    "TMPDIR",
    "USER",
    "WAYLAND_DISPLAY",
    "XAUTHORITY",
    "XDG_RUNTIME_DIR",
)
_NOT_PASSED_ON = frozenset('"%!\r\n\0')


def plan_run(machine: Machine, step: "UseInstaller", now_seconds: int, environment: Mapping[str, str]) -> RunInstaller:
    """The step that runs an installer; nothing is run here.

    Raises:
        UsageError: the machine is no prefix.
        UntrustedError: it is not the installer that the plan means, or nobody who is trusted has signed it.
        UnreadableError: it cannot be read.
    """
    from fundamen.evidence.publisher import PublisherAuthority  # noqa: PLC0415 - it loads the library of cryptography
    from fundamen.trust.publisher import SignatureStanding  # noqa: PLC0415

    path = machine.real(MachinePath(step.path))
    if not machine.is_prefix:
        raise UsageError(
            what=f"{printable(path)} is not run",
            why=f"{machine.title} is no prefix, and installers are run in prefixes only",
            do="Nothing was changed. Run it on its own machine, after inspecting it: fundamen inspect FILE",
        )
    require_usable(HostPath(machine.root))
    wine = find_wine(environment.get("PATH", os.defpath))
    if bad := next((each for each in (step.log, *step.arguments) if set(each) & _NOT_PASSED_ON), None):
        raise UsageError(
            what=f"{printable(path)} is not run",
            why=f"its argument {printable(bad)!r} has a character that the prefix's command processor would change",
            do="Nothing was changed. Leave quotes, percent signs and exclamation marks out.",
        )
    binary = machine.binary(path)
    with machine.open(path) as source:
        sha256 = digest_of(source)
        if sha256 != step.sha256:
            raise UntrustedError(
                what=f"{printable(path)} is not run",
                why=f"its SHA-256 is {sha256[:16]}..., not the {step.sha256[:16]}... of the plan",
                do="Nothing was changed. Ask the author of the plan.",
            )
        publisher = PublisherAuthority(datetime.fromtimestamp(now_seconds, UTC)).judge(machine, path, source, binary)
    if publisher.verdict is not SignatureStanding.TRUSTED:
        raise UntrustedError(
            what=f"{printable(path)} is not run",
            why=f"its publisher is not proven ({publisher.verdict}): {publisher.reason}",
            do="Nothing was changed. See its chain: "
            f"fundamen inspect --machine {printable(machine.root)} {printable(path)}",
        )
    return RunInstaller(
        path=path,
        because=step.because or "its publisher's own installer",
        sha256=sha256,
        publisher=publisher.name or "",
        arguments=step.arguments,
        log=step.log,
        seconds=step.seconds,
        wine=(wine.program, wine.server, wine.version),
        environment=tuple((name, environment[name]) for name in _PASSED_ON if name in environment),
    )


class UseInstaller(Form, frozen=True, kw_only=True, tag="run installer"):
    """A publisher's installer, or its repair, is run in a prefix, if its signature is trusted."""

    sha256: Sha256
    arguments: Annotated[tuple[Text, ...], msgspec.Meta(max_length=100)] = ()
    log: Text = ""  # where the arguments have it write its log, as C:\\setup.log
    seconds: Annotated[float, msgspec.Meta(gt=0, le=86400)] = 1800.0

    @property
    def title(self) -> str:
        """Title for the history."""
        return f"the installer {self.path}"

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        found = plan_run(resolving.machine, self, resolving.means.now_seconds, resolving.means.environment)
        resolving.steps[f"installer {found.path}"] = found
