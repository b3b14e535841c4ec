"""May a publisher's installer be run? Only one that its publisher has signed, whom the machine or this host trusts."""

import os
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Annotated

import msgspec

from fundamen.changes.form import Form, PlanResolution, Text
from fundamen.changes.installers import RunInstaller
from fundamen.machine.machine import Machine
from fundamen.messages import Message, say
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
        UntrustedError: it is not the installer that the plan means, or no one who is trusted has signed it.
        UnreadableError: it cannot be read.
    """
    from fundamen.evidence.publisher import PublisherAuthority  # noqa: PLC0415 - it loads the library of cryptography
    from fundamen.trust.publisher import SignatureStanding  # noqa: PLC0415

    path = machine.real(MachinePath(step.path))
    if not machine.is_prefix:
        raise UsageError(
            what=say("changes.is-not-run", path=printable(path)),
            why=say("changes.is-no-prefix-and-installers-are", title=machine.title),
            do=say("changes.nothing-was-changed-run-it-on"),
        )
    require_usable(HostPath(machine.root))
    wine = find_wine(environment.get("PATH", os.defpath))
    if bad := next((each for each in (step.log, *step.arguments) if set(each) & _NOT_PASSED_ON), None):
        raise UsageError(
            what=say("changes.is-not-run", path=printable(path)),
            why=say("changes.its-argument-has-a-character-that", bad=printable(bad)),
            do=say("changes.nothing-was-changed-leave-quotes-percent"),
        )
    binary = machine.binary(path)
    with machine.open(path) as source:
        sha256 = digest_of(source)
        if sha256 != step.sha256:
            raise UntrustedError(
                what=say("changes.is-not-run", path=printable(path)),
                why=say("changes.its-sha-256-is-not-the", sha256=sha256[:16], other_sha256=step.sha256[:16]),
                do=say("changes.nothing-was-changed-ask-the-author"),
            )
        publisher = PublisherAuthority(datetime.fromtimestamp(now_seconds, UTC)).judge(machine, path, source, binary)
    if publisher.verdict is not SignatureStanding.TRUSTED:
        raise UntrustedError(
            what=say("changes.is-not-run", path=printable(path)),
            why=say("changes.its-publisher-is-not-proven", verdict=publisher.verdict, reason=publisher.reason),
            do=say("changes.nothing-was-changed-see-its-chain", root=printable(machine.root), path=printable(path)),
        )
    return RunInstaller(
        path=path,
        because=step.because or say("changes.its-publisher-own-installer"),
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
    def title(self) -> Message:
        """Title for the history."""
        return say("changes.the-installer", path=self.path)

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        found = plan_run(resolving.machine, self, resolving.means.now_seconds, resolving.means.environment)
        resolving.steps[f"installer {found.path}"] = found
