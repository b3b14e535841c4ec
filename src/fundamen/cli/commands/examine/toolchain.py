"""``fundamen toolchain``."""

import os
from collections.abc import Callable, Sequence

import click

from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.helping import OnlyWith, Subcommand
from fundamen.cli.output import Output, finish, require_free
from fundamen.cli.tasks.licences import accepted_digests, ask_to_accept
from fundamen.cli.tasks.toolchain_catalogue import read_catalogue
from fundamen.cli.writing import write_file
from fundamen.machine.machine import Machine
from fundamen.messages import Message, say
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.report.commands import command as command_text
from fundamen.report.contracts.tooling import toolchain_record
from fundamen.report.examining.toolchain_text import toolchain_text
from fundamen.toolchains.catalogue import Toolchain, catalogue_bytes
from fundamen.toolchains.contents import choose_version
from fundamen.toolchains.examining import Acceptance, Examination, examine_toolchain


@click.command("toolchain", cls=Subcommand)
@click.argument("folder")
@click.option("--catalogue", "catalogues", multiple=True, metavar="FILE", help="Its catalogue; one for each version.")
@click.option("--should-be", metavar="VERSION", help="The version it should have; default: that of most files.")
@click.option("--accept", metavar="LICENCE", help="Show this licence, and record your consent.")
@click.option("--save-plan", metavar="FILE", help="Write a plan that repairs it to FILE.")
@click.option("--describe", nargs=2, metavar="NAME VERSION", help="Write a catalogue of a clean FOLDER instead.")
@click.option(
    "--part",
    "parts",
    cls=OnlyWith,
    only_with=("--describe",),
    multiple=True,
    metavar="NAME=PATTERN",
    help="With --describe: the paths of a part.",
)
@click.option(
    "--path",
    "on_path",
    cls=OnlyWith,
    only_with=("--describe",),
    multiple=True,
    metavar="PLACE",
    help="With --describe: a folder in it that belongs in PATH.",
)
@click.option(
    "--publisher", cls=OnlyWith, only_with=("--describe",), default="", help="With --describe: its publisher."
)
@click.option(
    "--write",
    "target",
    cls=OnlyWith,
    only_with=("--describe",),
    metavar="FILE",
    help="With --describe: write the catalogue to FILE.",
)
@options.machine_options
@options.output_options
def command(
    folder: str,
    *,
    catalogues: tuple[str, ...],
    should_be: str | None,
    accept: str | None,
    save_plan: str | None,
    describe: tuple[str, str] | None,
    parts: tuple[str, ...],
    on_path: tuple[str, ...],
    publisher: str,
    target: str | None,
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Check the toolchain in FOLDER against its catalogue: files, licences, PATH, and who still uses an older version.

    Give one catalogue for each version that you have, or let a trusted source bring them.

    \b
    fundamen toolchain /opt/breakwater --catalogue breakwater-2.1.0.json
    fundamen toolchain /opt/breakwater --save-plan breakwater.plan
    fundamen toolchain clean/breakwater --describe Breakwater 2.1.0 --write breakwater.json
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    status = Exit.NOTHING_AT_FAULT
    with output:
        _require_sense(describe, accept, save_plan, (target, save_plan))
        if describe is not None:
            _describe(folder, describe, parts, on_path, publisher, target, output)
            finish(status)
        examined = machine()
        path = examined.absolute_path(folder)
        known = _find_catalogues(catalogues, output)
        with output.say_working(f"Checking {folder}"):
            toolchain = _choose_catalogue(examined, path, known, should_be)
            others = [each for each in known if each.name == toolchain.name]
            found = examine_toolchain(examined, path, toolchain, others, accepted_digests().__contains__)
        if accept is not None:
            finish(_accept(examined, found, accept, output))
        following = _next(examined, folder, catalogues, should_be, found, save_plan, output)
        if output.as_json:
            output.show_record(toolchain_record(found, following))
        else:
            output.show(toolchain_text(found, following, verbose=output.verbose, drawn=output.drawn))
        status = Exit.NOTHING_AT_FAULT if found.is_right else Exit.FAULT_FOUND
    finish(status)


def _require_sense(describe: object, accept: object, save_plan: object, targets: Sequence[str | None]) -> None:
    """Make sure that the words of the command line fit together. Raises: UsageError."""
    why = ""
    if describe is not None and (accept or save_plan):
        why = "--describe checks nothing, so there is nothing to accept or plan"
    elif accept and save_plan:
        why = "--accept records an acceptance and plans nothing"
    if why:
        raise UsageError(say("cli.the-toolchain-is-not-checked"), why, say("cli.see-fundamen-toolchain-help"))
    require_free(*targets)


def _describe(
    folder: str,
    named: tuple[str, str],
    parts: tuple[str, ...],
    on_path: tuple[str, ...],
    publisher: str,
    target: str | None,
    output: Output,
) -> None:
    from fundamen.toolchains.describing import describe_toolchain  # noqa: PLC0415 - for the packager alone

    patterns: dict[str, list[str]] = {}
    for pair in parts:
        name, equals, pattern = pair.partition("=")
        if not (name and equals and pattern):
            raise UsageError(
                say("cli.part-cannot-be-used", pair=printable(pair)),
                say("cli.it-is-not-name-pattern"),
                say("cli.write-compiler-bin"),
            )
        patterns.setdefault(name, []).append(pattern)
    with output.say_working(f"Reading {folder}"):
        toolchain = describe_toolchain(HostPath(os.path.abspath(folder)), *named, patterns, on_path, publisher)
    if target is None:
        output.show(catalogue_bytes(toolchain).decode())
        return
    write_file(target, catalogue_bytes(toolchain), output)
    output.note("Write in what each part comes after, its licence and its targets: docs/formats/toolchain.md says how.")


def _find_catalogues(names: tuple[str, ...], output: Output) -> list[Toolchain]:
    """The catalogues that were named; those that the trusted sources carry where none was."""
    found = [read_catalogue(name) for name in names]
    if not found:
        from fundamen.cli.tasks.documents import carried_toolchains  # noqa: PLC0415 - only where none was named

        found = carried_toolchains(output)
    if not found:
        raise UsageError(
            what=say("cli.the-toolchain-is-not-checked"),
            why=say("cli.no-catalogue-was-named-and-no"),
            do=say("cli.name-the-publisher-catalogue-with-catalogue"),
        )
    return found


def _choose_catalogue(
    machine: Machine, folder: MachinePath, known: Sequence[Toolchain], should_be: str | None
) -> Toolchain:
    if should_be is None:
        return choose_version(machine, folder, known)
    fitting = [each for each in known if each.version == should_be]
    if not fitting:
        raise UsageError(
            what=say("cli.the-toolchain-cannot-be-checked-for", should_be=printable(should_be)),
            why=say("cli.there-are-catalogues-only-of", title=", ".join(sorted(each.title for each in known))),
            do=say("cli.name-that-version-catalogue-with-catalogue"),
        )
    return choose_version(machine, folder, fitting)


def _accept(machine: Machine, examination: Examination, name: str, output: Output) -> Exit:
    state = next((each for each in examination.licences if each.licence.name == name), None)
    if state is None or state.acceptance is Acceptance.HIDDEN:
        listed = ", ".join(each.licence.name for each in examination.licences) or "it has none"
        why = "the toolchain has no licence of this name"
        do = f"Its licences: {listed}."
        if state is not None:
            why = "its text is not there, or not as its publisher wrote it"
            do = f"Repair the part {state.brought_by} first."
        raise UsageError(say("cli.the-licence-cannot-be-accepted", text=printable(name)), why, do)
    return ask_to_accept(machine, state.path, output)


def _next(
    machine: Machine,
    folder: str,
    catalogues: tuple[str, ...],
    should_be: str | None,
    examination: Examination,
    save_plan: str | None,
    output: Output,
) -> tuple[Message, ...]:
    """The next steps, as commands; the plan is written where one was asked for."""
    if examination.is_right:
        return ()
    from fundamen.restore.for_toolchain import plan_toolchain  # noqa: PLC0415 - only where something is wrong

    words = [word for name in catalogues for word in ("--catalogue", name)]
    words += ["--should-be", should_be] if should_be is not None else []
    mending = plan_toolchain(machine, examination, options.now())
    steps: list[Message] = []
    if mending.plan is not None and save_plan is not None:
        from fundamen.restore.plan_file import plan_bytes as written_plan  # noqa: PLC0415

        write_file(save_plan, written_plan(mending.plan), output)
        steps.append(command_text(machine, "plans", "run", save_plan))
    elif mending.plan is not None:
        steps.append(command_text(machine, "toolchain", folder, *words, "--save-plan", "plan.json"))
    elif save_plan is not None:
        output.note(f"No plan is written to {save_plan}: there is no step for what is wrong.")
    due = {each.name for each in examination.due if each.kind == "licence"}
    readable = [each.licence.name for each in examination.licences if each.acceptance is Acceptance.OPEN]
    steps += [command_text(machine, "toolchain", folder, *words, "--accept", name) for name in readable if name in due]
    if mending.waiting:
        steps.append(say("cli.then-plan-what-waits-for-a-licence", names=", ".join(mending.waiting)))
    return (*steps, *mending.by_hand)
