"""``fundamen case`` and its commands."""

import os
from collections.abc import Callable, Iterable

import click

from fundamen.cases.store import Came, Case, CaseStore, Facts, Kind
from fundamen.cli import options
from fundamen.cli.output import Output
from fundamen.machine.machine import Machine
from fundamen.model.errors import UsageError
from fundamen.model.paths import HostPath


@click.group("case")
def command() -> None:
    """The record of a case: what is wrong, what was run and tried, what helped; past cases searched by symptom.

    While a case is open, each command of Fundamen is recorded in it with what it answered: passwords, tokens and the
    values of an environment are blotted out. 'case show' shows all that is recorded, 'case forget' removes it.

    \b
    fundamen case open 'Tidebook does not start on the quay desk'
    fundamen clues setup.log
    fundamen case next
    fundamen case tried restore --helped
    fundamen case close --helped 'Saltgrass Runtime restored for both widths'
    """  # noqa: D301 - \b is click's mark for lines that stay as they are


def _store() -> CaseStore:
    return CaseStore(HostPath(os.path.join(options.home(), "cases")))


def _chosen(store: CaseStore, number: int | None) -> Case:
    """A case by its number, or the open one. Raises: UsageError: there is none."""
    if number is not None:
        return store.case(number)
    case = store.current()
    if case is None:
        raise UsageError(
            what="No case is open",
            why="neither was one opened, nor is a number given",
            do="Open one: fundamen case open 'what is wrong'; or see: fundamen case list",
        )
    return case


def _show(output: Output, case: Case) -> None:
    if output.as_json:
        from fundamen.report.contracts.casing import case_record  # noqa: PLC0415 - only where JSON is asked for

        output.show_record(case_record(case))
    else:
        from fundamen.report.case_text import case_text  # noqa: PLC0415

        output.show(case_text(case, verbose=output.verbose))


def _show_all(output: Output, cases: Iterable[Case], text: Callable[[], str]) -> None:
    """Several cases: a record each, or the text that tells of them together."""
    if not output.as_json:
        output.show(text())
        return
    from fundamen.report.contracts.casing import case_record  # noqa: PLC0415 - only where JSON is asked for

    for case in cases:
        output.show_record(case_record(case))


@command.command("open")
@click.argument("title")
@click.option("--on", "machine", metavar="MACHINE", default="", help="Which machine it is about; default: this host.")
@options.output_options
def open_(title: str, machine: str, output: Output) -> None:
    """Open a case: TITLE says in one line what is wrong. Past cases like it are shown at once.

    \b
    fundamen case open 'Tidebook does not start: libtide.so.2' --on 'quay desk'
    """  # noqa: D301
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
        from fundamen.report.case_text import opened_text  # noqa: PLC0415

        output.show(opened_text(case, find_alike(before, case.title, 3)))


@command.command("note")
@click.argument("text")
@options.output_options
def note(text: str, output: Output) -> None:
    """Note TEXT in the open case.

    \b
    fundamen case note 'The caller says that it began after the update of Tuesday.'
    """  # noqa: D301
    from fundamen.model.secrets import without_secrets  # noqa: PLC0415

    with output:
        store = _store()
        case = _chosen(store, None)
        kept = without_secrets(text)
        store.add(case, Kind.NOTE, kept, Facts(), options.now())
        if kept != text:
            output.note(f"What looks like a secret was left out: {kept}")
        output.note(f"Noted in case {case.number}.")
        if output.as_json:
            _show(output, store.case(case.number))


@command.command("next")
@click.argument("number", type=options.NUMBER, required=False)
@options.output_options
def next_(number: int | None, output: Output) -> None:
    """Show the ladder: the remedies for the open case, or case NUMBER, from harmless to drastic, and the next one.

    \b
    fundamen case next
    """  # noqa: D301
    from fundamen.cases.ladder import ladder_of  # noqa: PLC0415

    with output:
        case = _chosen(_store(), number)
        ladder = ladder_of(case)
        if output.as_json:
            from fundamen.report.contracts.casing import ladder_record  # noqa: PLC0415

            output.show_record(ladder_record(case, ladder))
        else:
            from fundamen.report.case_text import ladder_text  # noqa: PLC0415

            output.show(ladder_text(case, ladder))


@command.command("tried")
@click.argument("remedy")
@click.option("--helped", "came", flag_value=Came.HELPED, type=Came, help="The symptom is gone.")
@click.option("--nothing", "came", flag_value=Came.NOTHING, type=Came, help="It changed nothing.")
@click.option("--worse", "came", flag_value=Came.WORSE, type=Came, help="It made it worse; take it back.")
@options.output_options
def tried(remedy: str, came: Came | None, output: Output) -> None:
    """Record what came of a REMEDY: one of the ladder by its name, or anything else in your own words.

    \b
    fundamen case tried restore --helped
    fundamen case tried 'logged off and on again' --nothing
    """  # noqa: D301
    from fundamen.cases.ladder import ladder_of, remedy_ids  # noqa: PLC0415
    from fundamen.model.secrets import without_secrets  # noqa: PLC0415

    with output:
        if came is None:
            raise UsageError(
                what="It cannot be recorded",
                why="nobody says what came of it",
                do=f"fundamen case tried '{remedy}' --helped, --nothing or --worse",
            )
        store = _store()
        case = _chosen(store, None)
        known = remedy if remedy in remedy_ids() else ""
        rungs = {rung.remedy.id: rung.do for rung in ladder_of(case).rungs}
        text = rungs.get(remedy, without_secrets(remedy))
        store.add(case, Kind.TRIED, text, Facts(remedy=known or text, came=came), options.now())
        after = _chosen(store, case.number)
        if output.as_json:
            _show(output, after)
            return
        from fundamen.report.case_text import tried_text  # noqa: PLC0415

        output.show(tried_text(after, ladder_of(after), came))


@command.command("show")
@click.argument("number", type=options.NUMBER, required=False)
@options.output_options
def show(number: int | None, output: Output) -> None:
    """Show the open case, or case NUMBER: all that is recorded in it.

    \b
    fundamen case show 3 --verbose
    """  # noqa: D301
    with output:
        _show(output, _chosen(_store(), number))


@command.command("list")
@click.option("--open", "only_open", is_flag=True, help="Only those that are open.")
@options.output_options
def list_(*, only_open: bool, output: Output) -> None:
    """List the cases, the newest first.

    \b
    fundamen case list --open
    """  # noqa: D301
    from fundamen.report.case_text import list_text  # noqa: PLC0415

    with output:
        store = _store()
        cases = [case for case in store.cases() if case.is_open or not only_open]
        _show_all(output, cases, lambda: list_text(cases, store.current()))


@command.command("search")
@click.argument("text")
@options.output_options
def search(text: str, output: Output) -> None:
    """Search past cases by TEXT: a symptom, a component, a code, a line of a log. What helped then comes first.

    \b
    fundamen case search 'libtide.so.2 cannot open shared object file'
    """  # noqa: D301
    from fundamen.cases.searching import find_alike  # noqa: PLC0415
    from fundamen.report.case_text import found_text  # noqa: PLC0415

    with output:
        store = _store()
        current = store.current()
        found = find_alike([case for case in store.cases() if current is None or case.id != current.id], text)
        _show_all(output, [each.case for each in found], lambda: found_text(found))


@command.command("close")
@click.option("--helped", metavar="TEXT", help="What helped, in one line.")
@click.option("--unsolved", is_flag=True, help="Nothing did.")
@options.output_options
def close(helped: str | None, *, unsolved: bool, output: Output) -> None:
    """Close the open case with what helped.

    \b
    fundamen case close --helped 'Saltgrass Runtime 4.2.1 restored'
    """  # noqa: D301
    from fundamen.model.secrets import without_secrets  # noqa: PLC0415

    with output:
        if (helped is None) != unsolved or (helped is not None and not helped.strip()):
            raise UsageError(
                what="The case cannot be closed",
                why="either say what helped, or that nothing did",
                do="fundamen case close --helped 'what helped'; or: fundamen case close --unsolved",
            )
        store = _store()
        case = store.close(_chosen(store, None), without_secrets(helped) if helped else None, options.now())
        _show(output, case)


@command.command("take-up")
@click.argument("number", type=options.NUMBER)
@options.output_options
def take_up(number: int, output: Output) -> None:
    """Go on with case NUMBER: commands are recorded in it again; if it was closed, it is open again."""
    with output:
        store = _store()
        _show(output, store.take_up(store.case(number)))


@command.command("put-down")
@options.output_options
def put_down(output: Output) -> None:
    """Leave the open case as it is, and record no more commands in it."""
    with output:
        store = _store()
        case = _chosen(store, None)
        store.put_down()
        output.note(f"Case {case.number} stays open; go on with it by: fundamen case take-up {case.number}")
        if output.as_json:
            _show(output, case)


@command.command("forget")
@click.argument("number", type=options.NUMBER)
@click.argument("entry", type=options.NUMBER, required=False)
@click.option("--yes", is_flag=True, help="Without asking.")
@options.output_options
def forget(number: int, entry: int | None, *, yes: bool, output: Output) -> None:
    """Remove case NUMBER for good, or only its ENTRY, as 'case show' numbers them.

    \b
    fundamen case forget 3 7
    """  # noqa: D301
    with output:
        store = _store()
        case = store.case(number)
        what = f"case {number} ({case.title})" if entry is None else f"entry {entry} of case {number}"
        if yes or output.agreed(f"Remove {what} for good?"):
            store.forget(case, entry)
            output.note(f"Removed: {what}.")
            if output.as_json and entry is not None:
                _show(output, store.case(number))
        else:
            output.note("Nothing was removed; to remove it without being asked: --yes")


@command.command("merge")
@click.argument("folder")
@options.output_options
def merge(folder: str, output: Output) -> None:
    """Take in the cases of another technician's FOLDER, which stays as it is. What is there already is not doubled.

    \b
    fundamen case merge /mnt/share/wren/fundamen/cases
    """  # noqa: D301
    with output:
        cases, entries = _store().merge(HostPath(os.path.abspath(folder)))
        if output.as_json:
            from fundamen.report.contracts.casing import MergeRecord  # noqa: PLC0415 - only where JSON is asked for

            output.show_record(MergeRecord(cases=cases, entries=entries))
            return
        output.show(f"New: {cases} case{'' if cases == 1 else 's'}, {entries} entr{'y' if entries == 1 else 'ies'}.\n")


@command.command("report")
@click.argument("file")
@click.argument("number", type=options.NUMBER, required=False)
@options.machine_options
@options.output_options
def report(file: str, number: int | None, machine: Callable[[], Machine], output: Output) -> None:
    """Write the open case, or case NUMBER, to FILE: one page of HTML that needs nothing else and prints well.

    The program of the case is traced anew, so that the page shows how it stands now: the answer, what it stands on as a
    picture, the faults with their evidence, what was run and tried, and what was restored.

    \b
    fundamen case report tidebook.html
    """  # noqa: D301
    from fundamen.cases.ladder import facts_of  # noqa: PLC0415
    from fundamen.cli.authorities import authorities_at  # noqa: PLC0415
    from fundamen.cli.writing import require_writable, write_file  # noqa: PLC0415
    from fundamen.execution.home import journal_of  # noqa: PLC0415
    from fundamen.machine.programs import find_program  # noqa: PLC0415
    from fundamen.report.report_page import trace_page  # noqa: PLC0415
    from fundamen.trace.hints import with_hints  # noqa: PLC0415
    from fundamen.trace.trace import trace_program  # noqa: PLC0415

    with output:
        require_writable([file])
        case = _chosen(_store(), number)
        named = facts_of(case).get("program")
        if named is None:
            raise UsageError(
                what=f"Case {case.number} cannot be reported on one page",
                why="no program is known in it",
                do="Trace the program while the case is open: fundamen trace PROGRAM",
            )
        examined = machine()
        now = options.now()
        authorities = authorities_at(options.home(), examined.platform, now, output)
        path = find_program(examined, named)
        with output.working(f"Tracing {named}"):
            trace = with_hints(examined, trace_program(examined, path, authorities), authorities, named)
        made = [each for each in journal_of(examined, options.home()).entries() if each.program == path]
        page = trace_page(trace, examined, now, case, made)
        write_file(file, page, output)
