"""The options that commands share, and what they open."""

import functools
import os
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

import click

from fundamen.api.state_folder import state_folder
from fundamen.cli.helping import CommonOption
from fundamen.cli.output import Output
from fundamen.machine.access import find_user
from fundamen.machine.machine import Machine
from fundamen.machine.opening import open_machine
from fundamen.messages import say
from fundamen.model.architecture import Architecture
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath

Command = Callable[..., None]
_LONGEST_SETTLING = 3600  # seconds
NUMBER = click.IntRange(1, (1 << 31) - 1)  # of a restoration, case or copy


def machine_options(command: Command) -> Command:
    """Give a command ``machine``: a function that opens the machine its options name."""

    @click.option(
        "--machine",
        "-m",
        cls=CommonOption,
        metavar="FOLDER",
        help="A mounted root, volume or prefix; default: this host.",
    )
    @click.option(
        "--drive", cls=CommonOption, multiple=True, metavar="D=FOLDER", help="A further drive of a Windows volume."
    )
    @click.option(
        "--env", cls=CommonOption, multiple=True, metavar="NAME=VALUE", help="Set a variable that the loader looks at."
    )
    @click.option("--as", "run_as", cls=CommonOption, default="", metavar="USER", help="Judge rights for this user.")
    @functools.wraps(command)
    def wrapper(
        machine: str | None,
        drive: tuple[str, ...],
        env: tuple[str, ...],
        run_as: str,
        **others: Any,  # noqa: ANN401 - whatever the command has besides
    ) -> None:
        def open_it() -> Machine:
            base = dict(os.environ) if machine is None else {}
            environment = {**base, **_pairs("--env", env)}
            opened = open_machine(
                machine, drives=_pairs("--drive", drive), environment=environment, current=os.getcwd()
            )
            opened.run_as = find_user(opened, run_as) if run_as else None
            return opened

        command(machine=open_it, **others)

    return wrapper


def output_options(command: Command) -> Command:
    """Give a command ``output``."""

    @click.option(
        "--json", "as_json", cls=CommonOption, is_flag=True, help="Print JSON Lines for scripts (docs/schemas/)."
    )
    @click.option("-q", "--quiet", cls=CommonOption, is_flag=True, help="Print no text; the exit status is the result.")
    @click.option(
        "-v", "--verbose", cls=CommonOption, count=True, help="Print everything; -vv also each attempt and decision."
    )
    @click.option("--log-file", cls=CommonOption, metavar="FILE", help="Add a detailed log, with tracebacks, to FILE.")
    @click.pass_obj
    @functools.wraps(command)
    def wrapper(
        facts: dict[str, Any] | None,
        /,
        *,
        as_json: bool,
        quiet: bool,
        verbose: int,
        log_file: str | None,
        **others: Any,  # noqa: ANN401 - whatever the command has besides
    ) -> None:
        output = Output(as_json=as_json, quiet=quiet, verbose=verbose > 0, facts=facts)
        if verbose > 1 or log_file is not None:
            from fundamen.cli import logs  # noqa: PLC0415 - few runs want it

            with output:
                logs.begin(is_shown=verbose > 1, file=log_file)
        command(output=output, **others)

    return wrapper


def this_host() -> Machine:
    """This host, with the environment that we were started with."""
    return open_machine(None, environment=dict(os.environ), current=os.getcwd())


def this_architecture() -> Architecture:
    """The architecture of this host."""
    import platform  # noqa: PLC0415 - only where no architecture is named

    machine = platform.machine().lower()
    return Architecture({"amd64": "x86_64", "arm64": "aarch64", "i686": "x86"}.get(machine, machine))


def home() -> HostPath:
    """The folder of Fundamen's own state. Raises: UsageError: another account could write there."""
    return state_folder()


def secret(path: str | None, what: str = "The password") -> str:
    """A short text that stands in a file, such as a password, its line end left out; empty where none was given.

    Raises:
        UnreadableError: the file cannot be read.
    """
    if path is None:
        return ""
    try:
        with open(path, encoding="utf-8") as file:
            return file.read(1 << 20).rstrip("\r\n")
    except (OSError, UnicodeDecodeError) as error:
        raise UnreadableError(
            what=say("cli.in-cannot-be-read", what=what, path=printable(path)),
            why=str(error),
            do=say("cli.name-a-file-of-text-that"),
        ) from error


def host_and_port(text: str, usual: int) -> tuple[str, int]:
    """A host and port from HOST:PORT, [IPv6]:PORT or HOST.

    Raises:
        UsageError: it has not the form of one.
    """
    host, _, port = text.rpartition(":") if not text.endswith("]") and ":" in text else (text, "", str(usual))
    if host and port.isdecimal() and 0 < int(port) < 1 << 16 and not set(host) & set("/ @"):
        return host, int(port)
    raise UsageError(
        what=say("cli.the-server-cannot-be-asked", text=printable(text)),
        why=say("cli.it-is-not-of-the-form"),
        do=say("cli.write-it-as-in-tides-example"),
    )


def counts(option: str, given: tuple[str, ...]) -> dict[str, int]:
    """Counts from NAME=NUMBER, the numbers from 1 to 9.

    Raises:
        UsageError: it has not the form of it.
    """
    pairs = _pairs(option, given)
    for name, number in pairs.items():
        if number not in set("123456789"):
            raise UsageError(
                what=say("cli.cannot-be-used", option=option, name=printable(name), number=printable(number)),
                why=say("cli.the-number-goes-from-1-to"),
                do=say("cli.write-it-as-for-example-root", option=option),
            )
    return {name: int(number) for name, number in pairs.items()}


def settle_seconds() -> float:
    """How long is waited before it is checked that restored files are still there: $FUNDAMEN_SETTLE, or half a second.

    Raises:
        UsageError: the variable is no such number.
    """
    given = os.environ.get("FUNDAMEN_SETTLE", "0.5")
    try:
        seconds = float(given)
    except ValueError:
        seconds = -1.0
    if not 0 <= seconds <= _LONGEST_SETTLING:
        raise UsageError(
            what=say("cli.the-variable-fundamen-settle-cannot-be"),
            why=say("cli.is-no-number-of-seconds-from", given=printable(given), longest_settling=_LONGEST_SETTLING),
            do=say("cli.set-it-to-for-example-0"),
        )
    return seconds


def now() -> datetime:
    """This moment, in UTC."""
    return datetime.now(UTC)


def _pairs(option: str, given: tuple[str, ...]) -> dict[str, str]:
    pairs = {}
    for pair in given:
        name, equals, value = pair.partition("=")
        if not (name and equals):
            raise UsageError(
                what=say("cli.cannot-be-used-option-pair", option=option, pair=printable(pair)),
                why=say("cli.it-is-not-of-the-form-name"),
                do=say("cli.write-it-as-name-value", option=option),
            )
        pairs[name] = value
    return pairs
