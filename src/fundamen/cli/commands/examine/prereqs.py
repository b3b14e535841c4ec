"""``fundamen prereqs``."""

import time
from collections.abc import Callable, Sequence
from functools import partial

import click
import msgspec

from fundamen.cli import options
from fundamen.cli.exits import Exit, exit_of
from fundamen.cli.helping import OnlyWith, Subcommand
from fundamen.cli.output import Output, finish, require_free
from fundamen.cli.tasks.licences import accepted_digests, ask_to_accept
from fundamen.cli.writing import write_file
from fundamen.machine.machine import Machine
from fundamen.machine.programs import find_program
from fundamen.messages import Message, as_command, say
from fundamen.model.display import printable, shown_page
from fundamen.model.errors import FundamenError, UsageError
from fundamen.model.isolation import Isolated
from fundamen.model.paths import HostPath, MachinePath
from fundamen.prerequisites.answer import RequirementStanding
from fundamen.prerequisites.checking import CheckedRequirement, CheckOutcome, check_requirements
from fundamen.prerequisites.kinds.command import CommandRequirement
from fundamen.prerequisites.kinds.licence import LicenceRequirement
from fundamen.prerequisites.ready import ready_names, ready_path
from fundamen.prerequisites.requirement import CheckContext
from fundamen.prerequisites.sheet import Sheet, read_sheet
from fundamen.report.commands import command as command_text
from fundamen.report.contracts.line import failure
from fundamen.report.contracts.requiring import PrereqsRecord, prereqs_record
from fundamen.report.examining.prereqs_text import changes_text, commands_text, prereqs_text


@click.command("prereqs", cls=Subcommand)
@click.argument("sheets", nargs=-1, metavar="[SHEET]...")
@click.option("--start", "program", metavar="PROGRAM", help="Draft a sheet from what PROGRAM needs.")
@click.option("--ready", metavar="NAME", help="Begin with a ready sheet; NAME 'list' lists them.")
@click.option("--carried", metavar="NAME", help="A sheet of a trusted source; NAME 'list' lists them.")
@click.option(
    "--write",
    "draft",
    cls=OnlyWith,
    only_with=("--start", "--ready"),
    metavar="FILE",
    help="Write the draft or ready sheet to FILE.",
)
@click.option("--run-commands", is_flag=True, help="Show the commands of a sheet, and run them after consent.")
@click.option(
    "--yes",
    cls=OnlyWith,
    only_with=("--run-commands", "--accept"),
    is_flag=True,
    help="With --run-commands: do not ask. It accepts no licence.",
)
@click.option("--accept", metavar="LICENCE", help="Show this licence file of a sheet, and record your consent.")
@click.option("--watch", is_flag=True, help="Check again until everything is met; Ctrl-C ends it.")
@click.option(
    "--every",
    cls=OnlyWith,
    only_with=("--watch",),
    type=click.FloatRange(0.1),
    default=5.0,
    show_default=True,
    help="With --watch: seconds between two checks.",
)
@click.option("--save-plan", metavar="FILE", help="Write a plan for what can be repaired to FILE.")
@options.machine_options
@options.output_options
def command(
    sheets: tuple[str, ...],
    *,
    program: str | None,
    ready: str | None,
    carried: str | None,
    draft: str | None,
    run_commands: bool,
    yes: bool,
    accept: str | None,
    watch: bool,
    every: float,
    save_plan: str | None,
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Check all requirements of each SHEET: which are not met, what each is needed for, and what to do.

    A sheet is a file of TOML (docs/formats/requirement-sheet.md). Nothing is changed, and no command of a sheet is run
    without consent.

    \b
    fundamen prereqs tidebook.toml
    fundamen prereqs --start /opt/tidebook/bin/tidebook --write tidebook.toml
    fundamen prereqs tidebook.toml --save-plan tidebook.plan
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    worst = Exit.NOTHING_AT_FAULT
    with output:
        _require_sense(
            (*sheets, *([carried] if carried else [])), program or ready, draft, accept, save_plan, watch=watch
        )
        if carried == "list":
            from fundamen.cli.tasks.documents import carried_names  # noqa: PLC0415 - only where it is asked for

            output.show("".join(f"{name}  from the source {source}\n" for source, name in carried_names(output)))
            finish(worst)
        if ready is not None:
            _begin(ready, draft, output)
            finish(worst)
        opened = machine()
        if program is not None:
            _draft(opened, program, draft, output)
            finish(worst)
        checking = _Checking(opened, output)
        if accept is not None:
            finish(checking.accept(_read(sheets, carried, output)[0].sheet(), accept))
        for index, named in enumerate(_read(sheets, carried, output)):
            try:
                with Isolated(named.words[-1]):
                    sheet = named.sheet()
                    checking.consent(sheet, wanted=run_commands, yes=yes)
                    outcome = checking.check(sheet)
            except FundamenError as error:
                worst = max(worst, exit_of(error))
                if output.as_json:
                    output.show_record(PrereqsRecord(sheet=named.words[-1], error=failure(error)))
                output.tell(error)
                continue
            checking.show(named, sheet, outcome, first=index == 0, save_plan=save_plan)
            if watch:
                outcome = checking.watch(sheet, outcome, every)
            is_met = all(each.answer.standing is RequirementStanding.MET for each in outcome.checked)
            worst = max(worst, Exit.NOTHING_AT_FAULT if is_met else Exit.FAULT_FOUND, *map(exit_of, outcome.bugs))
            for bug in outcome.bugs:
                output.tell(bug)
    finish(worst)


def _require_sense(
    sheets: tuple[str, ...],
    program: str | None,
    draft: str | None,
    accept: str | None,
    save_plan: str | None,
    *,
    watch: bool,
) -> None:
    """Make sure that the words of the command line fit together. Raises: UsageError."""
    why = ""
    if program is None and not sheets:
        why = "neither a sheet nor a program was named"
    elif program is not None and (sheets or accept or save_plan or watch):
        why = "--start and --ready begin a sheet, and check none"
    elif (watch or accept or save_plan) and len(sheets) != 1:
        why = "--watch, --accept and --save-plan are for one sheet"
    elif draft is not None and program is None:
        why = "--write is for the beginning of a sheet, with --start or --ready"
    if why:
        raise UsageError(say("cli.nothing-can-be-checked"), why, say("cli.see-fundamen-prereqs-help"))
    require_free(draft, save_plan)


def _draft(machine: Machine, program: str, name: str | None, output: Output) -> None:
    from fundamen.prerequisites.drafting import draft_sheet  # noqa: PLC0415 - it loads the library of TOML

    text = draft_sheet(machine, find_program(machine, program))
    if name is None:
        output.show(text)
        return
    write_file(name, text.encode(), output)
    output.note(f"Read it, add what no file declares, then: {command_text(machine, 'prereqs', name)}")


def _begin(name: str, draft: str | None, output: Output) -> None:
    """Give a ready sheet, or the names of all."""
    if name == "list":
        output.show("".join(f"{each}  {read_sheet(ready_path(each)).name}\n" for each in ready_names()))
        return
    with open(ready_path(name), encoding="utf-8") as file:
        text = file.read()
    if draft is None:
        output.show(text)
        return
    write_file(draft, text.encode(), output)
    output.note(f"Put your own names and paths in, then: fundamen prereqs {draft}")


class _Named(msgspec.Struct, frozen=True):
    """A sheet as it was named."""

    words: tuple[str, ...]  # on the command line
    sheet: Callable[[], Sheet]  # reads it


def _read(sheets: tuple[str, ...], carried: str | None, output: Output) -> list[_Named]:
    named = [_Named((path,), partial(read_sheet, HostPath(path))) for path in sheets]
    if carried is not None:
        from fundamen.cli.tasks.documents import carried_sheet  # noqa: PLC0415 - only where it is asked for

        named.append(_Named(("--carried", carried), partial(carried_sheet, carried, output)))
    return named


class _Checking:
    """Sheets against one machine."""

    def __init__(self, machine: Machine, output: Output) -> None:
        self._machine = machine
        self._output = output
        self._may_run = False

    def consent(self, sheet: Sheet, *, wanted: bool, yes: bool) -> None:
        """Show the commands of a sheet, and ask whether they may run."""
        self._may_run = False
        text = commands_text(sheet.requirements) if wanted else ""
        if text:
            click.echo(shown_page(text), err=True, nl=False)
            self._may_run = yes or self._output.ask_consent("Run them?")

    def check(self, sheet: Sheet, known: Sequence[CheckedRequirement] = ()) -> CheckOutcome:
        """Check a sheet."""
        is_accepted = accepted_digests().__contains__
        asked = CheckContext(machine=self._machine, now=options.now(), may_run=self._may_run, is_accepted=is_accepted)
        with self._output.say_working(f"Checking {sheet.name}"):
            return check_requirements(sheet.requirements, asked, known)

    def show(self, named: _Named, sheet: Sheet, outcome: CheckOutcome, *, first: bool, save_plan: str | None) -> None:
        """Show what came of a check, and write the plan if one was asked for."""
        plan = self._save_plan(sheet, outcome, save_plan) if save_plan is not None else ""
        following = self._next(named.words, sheet, outcome, plan)
        if self._output.as_json:
            self._output.show_record(prereqs_record(named.words[-1], sheet, outcome, following))
            return
        drawn, verbose = self._output.drawn, self._output.verbose
        self._output.show(
            ("" if first else "\n") + prereqs_text(sheet, outcome, following, verbose=verbose, drawn=drawn)
        )

    def watch(self, sheet: Sheet, outcome: CheckOutcome, every: float) -> CheckOutcome:
        """Look again at what is not met until all is, or the technician ends it; tell what changes."""
        try:
            while any(each.answer.standing is not RequirementStanding.MET for each in outcome.checked):
                time.sleep(every)
                self._machine = self._machine.afresh()
                before = {each.requirement.id: each for each in outcome.checked}
                outcome = self.check(sheet, outcome.of(RequirementStanding.MET))
                changed = [each for each in outcome.checked if each != before.get(each.requirement.id)]
                if changed and self._output.as_json:
                    self._output.show_record(prereqs_record("", sheet, outcome, ()))
                elif changed:
                    self._output.show(changes_text(changed, outcome, drawn=self._output.drawn))
        except KeyboardInterrupt:
            click.echo("\nStopped.", err=True)
        return outcome

    def accept(self, sheet: Sheet, text: str) -> Exit:
        """Show a licence, and record that it was accepted, if it is; of a sheet's licences only, and one at a time."""
        path = self._machine.absolute_path(text)
        if not any(isinstance(each, LicenceRequirement) and each.text == path for each in sheet.requirements):
            raise UsageError(
                what=say("cli.the-licence-cannot-be-accepted", text=printable(text)),
                why=say("cli.the-sheet-asks-for-no-licence"),
                do=say(
                    "cli.name-one-that-it-asks-for", licences=", ".join(_licences(sheet)) or say("cli.it-asks-for-none")
                ),
            )
        return ask_to_accept(self._machine, MachinePath(path), self._output)

    def _save_plan(self, sheet: Sheet, outcome: CheckOutcome, name: str) -> str:
        """Write a plan; give the command that performs it, empty where there is nothing to be planned."""
        from fundamen.restore.for_prerequisites import plan_for  # noqa: PLC0415 - only where a plan is asked for
        from fundamen.restore.plan_file import plan_bytes  # noqa: PLC0415

        mendable = plan_for(self._machine, sheet.program, outcome, options.now())
        if mendable.plan is None:
            self._output.note(f"No plan is written to {name}: there is no step for what is unmet.")
            return ""
        write_file(name, plan_bytes(mendable.plan), self._output)
        if mendable.by_hand:
            self._output.note(f"By hand remain: {', '.join(each.id for each in mendable.by_hand)}")
        return command_text(self._machine, "plans", "run", name)

    def _can_be_planned(self, sheet: Sheet, outcome: CheckOutcome) -> bool:
        from fundamen.restore.for_prerequisites import plan_for  # noqa: PLC0415 - only where something is unmet

        return plan_for(self._machine, sheet.program, outcome, options.now()).plan is not None

    def _next(self, words: tuple[str, ...], sheet: Sheet, outcome: CheckOutcome, plan: str) -> tuple[Message, ...]:
        unmet = outcome.of(RequirementStanding.UNMET)
        steps = [as_command(plan)] if plan else []
        texts = [each.requirement.text for each in unmet if isinstance(each.requirement, LicenceRequirement)]
        steps += [command_text(self._machine, "prereqs", "--accept", text, *words) for text in texts]
        held_back = [
            e
            for e in outcome.of(RequirementStanding.UNKNOWN)
            if isinstance(e.requirement, CommandRequirement) and not e.held_up_by
        ]
        if held_back and not self._may_run and self._machine.is_live:
            steps.append(command_text(self._machine, "prereqs", "--run-commands", *words))
        if unmet and not plan and sheet.program is not None and self._can_be_planned(sheet, outcome):
            steps.append(command_text(self._machine, "prereqs", *words, "--save-plan", "plan.json"))
        if unmet:
            steps.append(command_text(self._machine, "prereqs", *words, "--watch"))
        return tuple(dict.fromkeys(steps))


def _licences(sheet: Sheet) -> list[str]:
    return [each.text for each in sheet.requirements if isinstance(each, LicenceRequirement)]
