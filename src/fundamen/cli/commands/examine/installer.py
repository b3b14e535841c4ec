"""``fundamen installer``."""

import os
import re
import shlex
from collections.abc import Callable, Iterator
from contextlib import contextmanager

import click
import msgspec

from fundamen.cli import options
from fundamen.cli.exits import Exit, exit_of
from fundamen.cli.helping import OnlyWith, Subcommand
from fundamen.cli.output import Output, finish
from fundamen.evidence.debian_needs import READS
from fundamen.formats.archives.container import ContainerKind
from fundamen.formats.byte_source import ByteSource
from fundamen.installers.looking import Look, look_into
from fundamen.installers.outcome import Forecast
from fundamen.machine.file_bytes import FileBytes, open_ordinary
from fundamen.machine.machine import Machine
from fundamen.messages import Message, as_command, say
from fundamen.model.display import printable
from fundamen.model.encoding import as_message
from fundamen.model.errors import FundamenError, UnreadableError, UsageError
from fundamen.model.isolation import Isolated
from fundamen.model.paths import HostPath
from fundamen.report.commands import command as command_text
from fundamen.report.contracts.installing import InstallerRecord, installer_record, meant_by
from fundamen.report.contracts.line import failure
from fundamen.report.examining.installer_text import installer_text

_MOST_RECORD = 256 << 20  # bytes
_PUBLIC = re.compile(r"[A-Z_][A-Z0-9_.]*")


@click.command("installer", cls=Subcommand)
@click.argument("packages", nargs=-1, required=True, metavar="PACKAGE...")
@click.option(
    "--set", "given", multiple=True, metavar="NAME=VALUE", help="Set a property of an MSI, and show what that changes."
)
@click.option("--meant", metavar="RECORD", help="After it ran: compare with RECORD, the output of --json before.")
@click.option("--unpack", "folder", metavar="FOLDER", help="Unpack one PACKAGE into a new folder.")
@click.option(
    "--edit",
    "edits",
    cls=OnlyWith,
    only_with=("--unpack",),
    nargs=3,
    multiple=True,
    metavar="FILE KEY VALUE",
    help="With --unpack: change one setting of the copy; KEY is written as part/part.",
)
@options.machine_options
@options.output_options
def command(
    packages: tuple[str, ...],
    *,
    given: tuple[str, ...],
    meant: str | None,
    folder: str | None,
    edits: tuple[tuple[str, str, str], ...],
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Show what each PACKAGE contains, and foresee what it would do on a machine; nothing of it is run.

    A PACKAGE is an MSI or Debian package, a shell script, a self-extracting program, an archive or a disc image.

    \b
    fundamen installer setup.exe -v
    fundamen installer --machine /mnt/office tidebook.msi --set RUNTIME4='C:\\Saltgrass'
    fundamen installer setup.exe --unpack setup --edit setup.ini setup/runtime 4.2
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    worst = Exit.NOTHING_AT_FAULT
    with output:
        properties = _properties(given)
        opened = machine()
        if folder is not None or edits:
            _unpack(opened, packages, folder, edits, output)
            finish(worst)
        if meant is not None:
            finish(_compare(opened, packages, meant, output))
        for index, name in enumerate(packages):
            try:
                with Isolated(name), output.say_working(f"Looking into {name}"), _open_package(opened, name) as source:
                    look = look_into(opened, source, properties)
                with Isolated(name):
                    _show(output, look, _next(opened, name, look, given), first=index == 0)
            except FundamenError as error:
                worst = max(worst, exit_of(error))
                if output.as_json:
                    output.show_record(InstallerRecord(package=name, error=failure(error)))
                output.tell(error)
                continue
            worst = max(worst, Exit.FAULT_FOUND if look.is_at_fault else Exit.NOTHING_AT_FAULT)
    finish(worst)


def _show(output: Output, look: Look, following: tuple[Message, ...], *, first: bool) -> None:
    if output.as_json:
        output.show_record(installer_record(look, following))
    else:
        text = installer_text(look, following, verbose=output.verbose, drawn=output.drawn)
        output.show(("" if first else "\n") + text)


def _compare(machine: Machine, packages: tuple[str, ...], meant: str, output: Output) -> Exit:
    from fundamen.installers.looking import find_outcome  # noqa: PLC0415 - only after a package ran
    from fundamen.report.contracts.installing import outcome_record  # noqa: PLC0415
    from fundamen.report.examining.installer_text import outcome_text  # noqa: PLC0415

    if len(packages) != 1:
        raise UsageError(
            say("cli.nothing-is-compared"), say("cli.meant-is-for-one-package"), say("cli.see-fundamen-installer-help")
        )
    with output.say_working(f"Looking what became of {packages[0]}"), _open_package(machine, packages[0]) as source:
        outcome = find_outcome(machine, source, _read_forecast(meant, packages[0]))
    if output.as_json:
        output.show_record(outcome_record(packages[0], outcome))
    else:
        output.show(outcome_text(outcome, drawn=output.drawn))
    return Exit.FAULT_FOUND if outcome.wrong else Exit.NOTHING_AT_FAULT


def _read_forecast(name: str, package: str) -> Forecast:
    """The forecast in a record of --json. Raises: UnreadableError: it is none, or of another package."""
    do = f"Make one before the run: fundamen installer --json {printable(package)} > {printable(name)}"
    try:
        with open_ordinary(name) as file:
            records = [
                msgspec.json.decode(line, type=InstallerRecord, dec_hook=as_message)
                for line in file.read(_MOST_RECORD).splitlines()
            ]
    except OSError as error:
        raise UnreadableError(
            say("cli.cannot-be-read", path=printable(name)), error.strerror or str(error), do
        ) from error
    except (msgspec.DecodeError, ValueError) as error:
        raise UnreadableError(say("cli.tells-nothing-that-was-meant", name=printable(name)), str(error), do) from error
    same = [each for each in records if os.path.basename(each.package) == os.path.basename(package)]
    if not same:
        raise UnreadableError(
            say("cli.tells-nothing-that-was-meant", name=printable(name)),
            say("cli.it-is-not-of", package=printable(package)),
            do,
        )
    return meant_by(same[-1])


def _unpack(
    machine: Machine,
    packages: tuple[str, ...],
    folder: str | None,
    edits: tuple[tuple[str, str, str], ...],
    output: Output,
) -> None:
    from fundamen.installers.unpacking import Edit, unpack_changed  # noqa: PLC0415 - only where a copy is asked for
    from fundamen.report.examining.installer_text import unpacked_text  # noqa: PLC0415

    if folder is None or len(packages) != 1:
        raise UsageError(
            say("cli.nothing-is-unpacked"),
            say("cli.unpack-folder-is-for-one-package"),
            say("cli.see-fundamen-installer-help"),
        )
    wanted = [Edit(file, tuple(key.split("/")), value) for file, key, value in edits]
    with output.say_working(f"Unpacking {packages[0]}"), _open_package(machine, packages[0]) as source:
        copy = unpack_changed(source, HostPath(os.path.abspath(folder)), wanted, options.now())
    if output.as_json:
        from fundamen.report.contracts.installing import unpacked_record  # noqa: PLC0415

        output.show_record(unpacked_record(packages[0], copy))
        return
    output.show(unpacked_text(packages[0], copy, drawn=output.drawn))


@contextmanager
def _open_package(machine: Machine, name: str) -> Iterator[ByteSource]:
    """A package of this host, or of the machine."""
    path = HostPath(os.path.abspath(name))
    if not os.path.exists(path):
        with machine.open(machine.absolute_path(name)) as source:
            yield source
        return
    if not os.path.isfile(path):
        raise UnreadableError(
            say("cli.cannot-be-looked-into", name=printable(name)),
            say("cli.it-is-no-ordinary-file"),
            say("cli.name-the-package-itself"),
        )
    try:
        file = FileBytes(path, name)
    except OSError as error:
        raise UnreadableError(
            say("cli.cannot-be-looked-into", name=printable(name)),
            error.strerror or str(error),
            say("cli.name-a-file-that-you-may"),
        ) from error
    try:
        yield file
    finally:
        file.close()


def _properties(given: tuple[str, ...]) -> dict[str, str]:
    """Properties from NAME=VALUE. Raises: UsageError: one has another form, or must not be set."""
    properties = {}
    for pair in given:
        name, equals, value = pair.partition("=")
        if not equals or not _PUBLIC.fullmatch(name):
            raise UsageError(
                what=say("cli.set-cannot-be-used", pair=printable(pair)),
                why=say("cli.it-is-not-name-value-or"),
                do=say("cli.write-it-as-for-example-set"),
            )
        properties[name] = value
    return properties


def _next(machine: Machine, name: str, look: Look, given: tuple[str, ...]) -> tuple[Message, ...]:
    if look.kind is ContainerKind.MSI and look.conclusion is None:
        return (as_command(f"fundamen installer --machine FOLDER {printable(name)}"),)
    if look.conclusion is not None:
        return _next_of_msi(machine, name, look, given)
    if look.unmet:
        read = [need.text for need in look.unmet if need.field == READS]
        missing = [n.text.partition("(")[0].partition("|")[0].strip() for n in look.unmet if n.field != READS]
        first = [say("cli.have-these-installed-first", names=", ".join(missing))] if missing else []
        return (*first, *([say("cli.put-there-what-it-reads", names=", ".join(read))] if read else []))
    return (command_text(machine, "inspect", name),) if look.kind is ContainerKind.SELF_EXTRACTING else ()


def _next_of_msi(machine: Machine, name: str, look: Look, given: tuple[str, ...]) -> tuple[Message, ...]:
    found = look.conclusion
    if found is None or found.hindrances:
        return (say("cli.repair-the-reasons-that-stop-it"),)
    if given:
        changes = any(line.values.get("kind") != "property" for line in look.overruled)
        run = as_command(f"msiexec /i {shlex.quote(name)} {shlex.join(given)}")
        return (run,) if changes or not look.is_at_fault else (say("cli.the-properties-do-not-change-its-choice"),)
    if found.overrulers:
        return tuple(command_text(machine, "installer", name, "--set", f"{each}=1") for each in found.overrulers)
    if found.leftovers:
        return (say("cli.have-the-leftover-removed"),)
    return (as_command(f"msiexec /i {shlex.quote(name)}"),)
