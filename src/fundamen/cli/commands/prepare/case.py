"""``fundamen case`` and its commands."""

import os
from collections.abc import Callable, Iterable

import click

from fundamen.cases.store import Case, CaseFacts, CaseStore, EntryType, RemedyOutcome
from fundamen.cli import options
from fundamen.cli.helping import CommandGroup
from fundamen.cli.output import Output
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.errors import UsageError
from fundamen.model.paths import HostPath


@click.group("case", cls=CommandGroup)
def command() -> None:
    """Keep the record of a case: what is wrong, what was run and tried, what helped; and search past cases.

    While a case is open, every Fundamen command is recorded in it. Passwords and tokens are left out.

    \b
    fundamen case open 'Tidebook does not start on the quay desk'
    fundamen case next
    fundamen case close --helped 'Saltgrass Runtime restored'
    """  # noqa: D301 - \b is click's mark for lines that stay as they are


def _store() -> CaseStore:
    return CaseStore(HostPath(os.path.join(options.home(), "cases")))


def _find_case(store: CaseStore, number: int | None) -> Case:
    """A case by its number, or the open one. Raises: UsageError: there is none."""
    if number is not None:
        return store.case(number)
    case = store.current()
    if case is None:
        raise UsageError(
            what=say("cli.no-case-is-open"),
            why=say("cli.neither-was-one-opened-nor-is"),
            do=say("cli.open-one-fundamen-case-open-what"),
        )
    return case


def _show(output: Output, case: Case) -> None:
    if output.as_json:
        from fundamen.report.contracts.casing import case_record  # noqa: PLC0415 - only where JSON is asked for

        output.show_record(case_record(case))
    else:
        from fundamen.report.repairing.case_text import case_text  # noqa: PLC0415

        output.show(case_text(case, verbose=output.verbose))


def _show_all(output: Output, cases: Iterable[Case], text: Callable[[], str]) -> None:
    """Several cases: a record each, or the text that tells of them together."""
    if not output.as_json:
        output.show(text())
        return
    from fundamen.report.contracts.casing import case_record  # noqa: PLC0415 - only where JSON is asked for

    for case in cases:
        output.show_record(case_record(case))


@command.command("open", short_help="Open a case.")
@click.argument("title")
@click.option("--on", "machine", metavar="MACHINE", default="", help="The machine of the case; default: this host.")
@options.output_options
def open_(title: str, machine: str, output: Output) -> None:
    """Open a case, and show past cases like it; TITLE says in one line what is wrong.

    \b
    fundamen case open 'Tidebook does not start: libtide.so.2' --on 'quay desk'
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    import platform  # noqa: PLC0415 - beside what it serves

    from fundamen.model.secrets import without_secrets  # noqa: PLC0415

    with output:
        store = _store()
        before = store.cases()
        case = store.open_case(without_secrets(title), machine or platform.node() or "this host", options.now())
        if output.as_json:
            _show(output, case)
            return
        from fundamen.cases.searching import find_alike  # noqa: PLC0415
        from fundamen.report.repairing.case_text import opened_text  # noqa: PLC0415

        output.show(opened_text(case, find_alike(before, case.title, 3)))


@command.command("note", short_help="Add a note to the open case.")
@click.argument("text")
@options.output_options
def note(text: str, output: Output) -> None:
    """Add TEXT as a note to the open case.

    \b
    fundamen case note 'The caller says that it began after the update of Tuesday.'
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.model.secrets import without_secrets  # noqa: PLC0415

    with output:
        store = _store()
        case = _find_case(store, None)
        kept = without_secrets(text)
        store.add(case, EntryType.NOTE, kept, CaseFacts(), options.now())
        if kept != text:
            output.note(f"Text that looks like a secret was left out: {kept}")
        output.note(f"Noted in case {case.number}.")
        if output.as_json:
            _show(output, store.case(case.number))


@command.command("next", short_help="Show the remedies to try, and the next one.")
@click.argument("number", type=options.NUMBER, required=False)
@options.output_options
def next_(number: int | None, output: Output) -> None:
    """Show the remedies for the open case, or case NUMBER, from harmless to drastic, and the next one to try.

    \b
    fundamen case next
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.cases.ladder import ladder_of  # noqa: PLC0415

    with output:
        case = _find_case(_store(), number)
        ladder = ladder_of(case)
        if output.as_json:
            from fundamen.report.contracts.casing import ladder_record  # noqa: PLC0415

            output.show_record(ladder_record(case, ladder))
        else:
            from fundamen.report.repairing.case_text import ladder_text  # noqa: PLC0415

            output.show(ladder_text(case, ladder))


@command.command("tried", short_help="Record the result of a remedy.")
@click.argument("remedy")
@click.option("--helped", "outcome", flag_value=RemedyOutcome.HELPED, type=RemedyOutcome, help="The symptom is gone.")
@click.option("--nothing", "outcome", flag_value=RemedyOutcome.NOTHING, type=RemedyOutcome, help="It changed nothing.")
@click.option(
    "--worse", "outcome", flag_value=RemedyOutcome.WORSE, type=RemedyOutcome, help="It made it worse; undo it."
)
@options.output_options
def record_try(remedy: str, outcome: RemedyOutcome | None, output: Output) -> None:
    """Record the result of a REMEDY: one of the list by its name, or anything else in your own words.

    \b
    fundamen case tried restore --helped
    fundamen case tried 'logged off and on again' --nothing
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.cases.ladder import ladder_of, remedy_ids  # noqa: PLC0415
    from fundamen.model.secrets import without_secrets  # noqa: PLC0415

    with output:
        if outcome is None:
            raise UsageError(
                what=say("cli.it-cannot-be-recorded"),
                why=say("cli.its-result-was-not-given"),
                do=say("cli.fundamen-case-tried-helped-nothing-or", remedy=remedy),
            )
        store = _store()
        case = _find_case(store, None)
        known = remedy if remedy in remedy_ids() else ""
        rungs = {rung.remedy.id: rung.do for rung in ladder_of(case).rungs}
        text = rungs.get(remedy, without_secrets(remedy))
        store.add(case, EntryType.TRIED, text, CaseFacts(remedy=known or text, outcome=outcome), options.now())
        after = _find_case(store, case.number)
        if output.as_json:
            _show(output, after)
            return
        from fundamen.report.repairing.case_text import tried_text  # noqa: PLC0415

        output.show(tried_text(after, ladder_of(after), outcome))


@command.command("show", short_help="Show everything that a case holds.")
@click.argument("number", type=options.NUMBER, required=False)
@options.output_options
def show(number: int | None, output: Output) -> None:
    """Show everything that is recorded in the open case, or in case NUMBER.

    \b
    fundamen case show 3 --verbose
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    with output:
        _show(output, _find_case(_store(), number))


@command.command("list", short_help="List the cases.")
@click.option("--open", "only_open", is_flag=True, help="Only those that are open.")
@options.output_options
def list_(*, only_open: bool, output: Output) -> None:
    """List the cases, the newest first.

    \b
    fundamen case list --open
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.report.repairing.case_text import list_text  # noqa: PLC0415

    with output:
        store = _store()
        cases = [case for case in store.cases() if case.is_open or not only_open]
        _show_all(output, cases, lambda: list_text(cases, store.current()))


@command.command("search", short_help="Search past cases.")
@click.argument("text")
@options.output_options
def search(text: str, output: Output) -> None:
    """Search past cases for TEXT: a symptom, a component, a code, a line of a log. What helped then comes first.

    \b
    fundamen case search 'libtide.so.2 cannot open shared object file'
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.cases.searching import find_alike  # noqa: PLC0415
    from fundamen.report.repairing.case_text import found_text  # noqa: PLC0415

    with output:
        store = _store()
        current = store.current()
        found = find_alike([case for case in store.cases() if current is None or case.id != current.id], text)
        _show_all(output, [each.case for each in found], lambda: found_text(found))


@command.command("close", short_help="Close the open case.")
@click.option("--helped", metavar="TEXT", help="The remedy that helped, in one line.")
@click.option("--unsolved", is_flag=True, help="Nothing helped.")
@options.output_options
def close(helped: str | None, *, unsolved: bool, output: Output) -> None:
    """Close the open case, and record what helped.

    \b
    fundamen case close --helped 'Saltgrass Runtime 4.2.1 restored'
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.model.secrets import without_secrets  # noqa: PLC0415

    with output:
        if (helped is None) != unsolved or (helped is not None and not helped.strip()):
            raise UsageError(
                what=say("cli.the-case-cannot-be-closed"),
                why=say("cli.either-say-what-helped-or-that"),
                do=say("cli.fundamen-case-close-helped-what-helped"),
            )
        store = _store()
        case = store.close(_find_case(store, None), without_secrets(helped) if helped else None, options.now())
        _show(output, case)


@command.command("continue", short_help="Continue a case.")
@click.argument("number", type=options.NUMBER)
@options.output_options
def take_up(number: int, output: Output) -> None:
    """Continue case NUMBER: commands are recorded in it again. A closed case becomes open.

    \b
    fundamen case continue 3
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    with output:
        store = _store()
        _show(output, store.take_up(store.case(number)))


@command.command("pause", short_help="Stop recording in the open case.")
@options.output_options
def put_down(output: Output) -> None:
    """Stop recording commands in the open case; it stays open.

    \b
    fundamen case pause
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    with output:
        store = _store()
        case = _find_case(store, None)
        store.put_down()
        output.note(f"Case {case.number} stays open; continue it with: fundamen case continue {case.number}")
        if output.as_json:
            _show(output, case)


@command.command("forget", short_help="Delete a case, or one entry of it.")
@click.argument("number", type=options.NUMBER)
@click.argument("entry", type=options.NUMBER, required=False)
@click.option("--yes", is_flag=True, help="Delete it without asking.")
@options.output_options
def forget(number: int, entry: int | None, *, yes: bool, output: Output) -> None:
    """Delete case NUMBER for good, or only its ENTRY, as 'fundamen case show' numbers them.

    \b
    fundamen case forget 3 7
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    with output:
        store = _store()
        case = store.case(number)
        what = f"case {number} ({case.title})" if entry is None else f"entry {entry} of case {number}"
        if yes or output.ask_consent(f"Remove {what} for good?"):
            store.forget(case, entry)
            output.note(f"Removed: {what}.")
            if output.as_json and entry is not None:
                _show(output, store.case(number))
        else:
            output.note("Nothing was removed; to remove it without being asked: --yes")


@command.command("merge", short_help="Add another technician's cases to yours.")
@click.argument("folder")
@options.output_options
def merge(folder: str, output: Output) -> None:
    """Add the cases in another technician's FOLDER to yours; cases that you have already are not doubled.

    \b
    fundamen case merge /mnt/share/wren/fundamen/cases
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    with output:
        cases, entries = _store().merge(HostPath(os.path.abspath(folder)))
        if output.as_json:
            from fundamen.report.contracts.casing import MergeRecord  # noqa: PLC0415 - only where JSON is asked for

            output.show_record(MergeRecord(cases=cases, entries=entries))
            return
        output.show(f"New: {cases} case{'' if cases == 1 else 's'}, {entries} entr{'y' if entries == 1 else 'ies'}.\n")


@command.command("report", short_help="Write a case as a page of HTML.")
@click.argument("file")
@click.argument("number", type=options.NUMBER, required=False)
@options.machine_options
@options.output_options
def report(file: str, number: int | None, machine: Callable[[], Machine], output: Output) -> None:
    """Write the open case, or case NUMBER, to FILE: one page of HTML that needs no other file and prints well.

    The program of the case is traced again, so that the page shows its present state.

    \b
    fundamen case report tidebook.html
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    from fundamen.cases.ladder import facts_of  # noqa: PLC0415
    from fundamen.cli.tasks.authorities import authorities_at  # noqa: PLC0415
    from fundamen.cli.writing import require_writable, write_file  # noqa: PLC0415
    from fundamen.execution.home import journal_of  # noqa: PLC0415
    from fundamen.machine.programs import find_program  # noqa: PLC0415
    from fundamen.report.drawing.report_page import trace_page  # noqa: PLC0415
    from fundamen.trace.hints import with_hints  # noqa: PLC0415
    from fundamen.trace.trace import trace_program  # noqa: PLC0415

    with output:
        require_writable([file])
        case = _find_case(_store(), number)
        named = facts_of(case).get("program")
        if named is None:
            raise UsageError(
                what=say("cli.case-cannot-be-reported-on-one", number=case.number),
                why=say("cli.no-program-is-known-in-it"),
                do=say("cli.trace-the-program-while-the-case"),
            )
        examined = machine()
        now = options.now()
        authorities = authorities_at(options.home(), examined.platform, now, output)
        path = find_program(examined, named)
        with output.say_working(f"Tracing {named}"):
            trace = with_hints(examined, trace_program(examined, path, authorities), authorities, named)
        made = [each for each in journal_of(examined, options.home()).entries() if each.program == path]
        page = trace_page(trace, examined, now, case, made)
        write_file(file, page, output)
