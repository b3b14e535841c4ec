"""Lay out an error text: the first cause, its meaning, its background, the next steps."""

from collections.abc import Sequence

from fundamen.clues.advice import likely_causes, means_of, next_steps
from fundamen.clues.behind import Behind, is_trusted
from fundamen.clues.findings import Finding
from fundamen.clues.mentions import MentionKind
from fundamen.clues.reading import Reading
from fundamen.knowledge.entries import Code
from fundamen.machine.machine import Machine
from fundamen.messages import Message, say
from fundamen.model.verdict import Verdict
from fundamen.report.commands import command, import_command
from fundamen.report.examining.trace_text import next_step
from fundamen.report.page import Page, count_of, shorten, some_of

_MOST_ALSO, _MOST_FOLLOWING, _MOST_NAMED, _MOST_PLACES, _MOST_LOGS = 6, 3, 8, 6, 20
_LONGEST_QUOTE = 600  # characters of a line that are shown
_NAMED_IN_ORDER = (
    (MentionKind.COMPONENT, "components"),
    (MentionKind.PROGRAM, "programs"),
    (MentionKind.PACKAGE, "packages"),
    (MentionKind.SERVICE, "services"),
    (MentionKind.ARCHITECTURE, "for"),
    (MentionKind.VERSION, "versions"),
    (MentionKind.TARGET, "targets"),
    (MentionKind.SYMBOL, "functions"),
    (MentionKind.HOST, "hosts"),
    (MentionKind.SETTING, "settings"),
    (MentionKind.PATH, "paths"),
)


def clues_text(
    reading: Reading,
    readings: Sequence[Reading],
    behind: Behind | None,
    machine: Machine,
    *,
    drawn: bool,
    verbose: bool,
) -> str:
    """The page for one text, or for several of which one has the first cause."""
    page = Page(drawn=drawn)
    said = answer(reading, behind, readings)
    page.answer(said, good=reading.decisive is None)
    if reading.decisive is not None:
        _decisive(page, reading, reading.decisive, behind, is_explained=behind is not None and _explains(behind))
        _behind(page, behind)
        _also(page, reading, verbose=verbose)
        if reading.read_until is not None:
            page.blank()
            page.line(f"It has too many complaints to read; the lines after {reading.read_until} were not read.")
    _add_named(page, reading, verbose=verbose)
    if len(readings) > 1:
        _logs(page, reading, readings, verbose=verbose)
    page.heading("Next")
    for step in steps(reading, behind, machine):
        page.step(step)
    return page.text()


def called_text(path: str, finding: Finding, means: str) -> str:
    """A line that has just come, for those who wait for it."""
    page = Page(drawn=False)
    page.answer(f"{path}:{finding.line}", good=False)
    page.line(shorten(finding.text, _LONGEST_QUOTE))
    page.line(means)
    return page.text()


def answer(reading: Reading, behind: Behind | None, readings: Sequence[Reading]) -> str:
    """The finding in one sentence."""
    if reading.decisive is None:
        if not any(each.lines for each in readings):
            return "The text is empty."
        where = count_of(reading.lines, "line") if len(readings) == 1 else count_of(len(readings), "text")
        if reading.ended_well:
            return f"Nothing at fault: the last run that it tells of ended well ({where})."
        return f"No line tells of a failure ({where})."
    if behind is not None and _explains(behind):
        return behind.reason
    guess = "It reads much like: " if reading.decisive.is_guess else ""
    means = guess + means_of(reading.decisive)
    if behind is not None and behind.available:
        return say("report.and-the-archive-has-the-package", means=means, package=behind.available[0])
    return means


def _explains(behind: Behind) -> bool:
    """Whether what the machine shows is the answer, and not only something besides."""
    is_by_program = any(trace.faults for trace in behind.traces) or not behind.traces
    return bool(behind.reason) and (bool(behind.lost) or is_by_program or behind.is_explained)


def steps(reading: Reading, behind: Behind | None, machine: Machine) -> Sequence[Message]:
    """The next steps; where a program was traced, those of its trace."""
    if reading.decisive is None and not reading.lines:
        return [say("report.a-program-that-ends-without-a-word")]
    if reading.decisive is None:
        return [say("report.give-the-log-of-the-part-that-fails")]
    if behind is not None and (found := _steps_on_machine(behind, machine)):
        return found
    words = [] if machine.is_live else ["--machine", machine.root]
    return next_steps(reading, words)


def _steps_on_machine(behind: Behind, machine: Machine) -> Sequence[Message]:
    """The next steps by what is behind a text on a machine; none where nothing there calls for one."""
    failing = [trace for trace in behind.traces if trace.faults]
    if failing:
        return [command(machine, "trace", failing[0].program), next_step(failing[0], machine)]
    untrusted = [each for each in behind.signed if not is_trusted(each)]
    if untrusted:
        path = untrusted[0].path
        return [command(machine, "inspect", path), import_command(machine, path)]
    if behind.available and behind.used_by is not None:
        return [command(machine, "restore", "--rehearse", "--install", behind.available[0], behind.used_by)]
    named = dict.fromkeys(each.restored_by for each in behind.lost)
    if behind.barred is not None:
        named[behind.barred] = None
    return [command(machine, "restore", "--rehearse", *named)] if named else []


def _decisive(page: Page, reading: Reading, decisive: Finding, behind: Behind | None, *, is_explained: bool) -> None:
    page.heading("The line that decides" if not decisive.is_guess else "The line that may decide")
    label = f"line {decisive.line}"
    page.field(label, shorten(decisive.text, _LONGEST_QUOTE), indent=2, width=max(12, len(label) + 2))
    is_known = not decisive.is_guess and decisive.entry is not None
    if is_explained and is_known:  # what is behind it is known: no need to guess
        page.field("means", means_of(decisive), indent=2)
    for code in _codes(reading):
        page.field("code", f"{code.name}{_value(code)}: {code.means}", indent=2)
    if not is_explained:
        for number, likely in enumerate(likely_causes(reading, behind)):
            because = f": {likely.because}" if likely.is_borne_out else ""
            page.field("likely" if number == 0 else "or", likely.cause + because, indent=2)


def _codes(reading: Reading) -> list[Code]:
    found = [code for each in (reading.decisive, *reading.also, *reading.follows) if each for code in each.codes]
    own = {reading.decisive.entry.id} if reading.decisive and isinstance(reading.decisive.entry, Code) else set()
    return [code for code in dict.fromkeys(found) if code.id not in own][:_MOST_FOLLOWING]


def _value(code: Code) -> str:
    if str(code.value) in code.name:
        return ""
    return f" (0x{code.value:08X})" if code.value >= 1 << 31 else f" ({code.value})"


def _behind(page: Page, behind: Behind | None) -> None:
    if behind is None or not (behind.reason or behind.places or behind.absent or behind.meant or behind.signed):
        return
    if behind.lost:
        page.heading("Files of packages on this machine")
        page.columns([(each.path, each.damage, f"package {each.package}") for each in behind.lost])
        return
    page.heading("On this machine")
    if behind.reason and not _explains(behind):
        page.line(behind.reason)
    _add_judged(page, behind)
    for place in behind.places[:_MOST_PLACES]:
        page.verdict(place.verdict, place.path)
        page.field("is", f"for {place.architecture}: {place.detail}" if place.architecture else place.detail, indent=4)
    if len(behind.places) > _MOST_PLACES:
        page.line(f"and {count_of(len(behind.places) - _MOST_PLACES, 'more copy', 'more copies')}")
    for name in behind.absent:
        page.verdict(Verdict.MISSING, f"{name} was not found in the folders where it is expected")
    for name, path in behind.versions:
        page.line(f"Of {name} another version is there: {path}")
    for name, path in behind.meant:
        page.line(f"Did you mean {path}? The text says {name}.")


def _add_judged(page: Page, behind: Behind) -> None:
    """The signatures and programs that were judged."""
    for inspection in behind.signed:
        if inspection.publisher is not None:
            from fundamen.report.examining.trust_text import add_publisher  # noqa: PLC0415 - only where one was judged

            page.line(inspection.path)
            add_publisher(page, inspection.publisher, "")
    faults = {(fault.name, fault.reason): fault for trace in behind.traces for fault in trace.faults}
    for fault in faults.values():
        page.verdict(fault.verdict, fault.full_name)
        page.field("because", fault.reason, indent=4)
        if fault.brought_by:
            page.field("brought by", f"the system's package {fault.brought_by[0]}", indent=4)


def _also(page: Page, reading: Reading, *, verbose: bool) -> None:
    if reading.also:
        page.heading("Also at fault")
        shown = reading.also if verbose else reading.also[:_MOST_ALSO]
        page.columns([(f"line {each.line}", means_of(each)) for each in shown])
        if len(reading.also) > len(shown):
            page.line(f"and {len(reading.also) - len(shown)} more; --verbose lists them all.")
    if reading.follows:
        page.heading("Only follows from it")
        shown = reading.follows if verbose else reading.follows[:_MOST_FOLLOWING]
        page.columns([(f"line {each.line}", shorten(each.text, 160)) for each in shown])
        if len(reading.follows) > len(shown):
            page.line(f"and {len(reading.follows) - len(shown)} more; --verbose lists them all.")


def _add_named(page: Page, reading: Reading, *, verbose: bool) -> None:
    rows = []
    for kind, label in _NAMED_IN_ORDER:
        texts = [mention.text for mention in reading.mentions if mention.kind is kind]
        if texts:
            rows.append((label, some_of(texts, None if verbose else _MOST_NAMED)))
    if rows:
        page.heading("Names in it")
        for label, text in rows:
            page.field(label, text, indent=2)


def _logs(page: Page, reading: Reading, readings: Sequence[Reading], *, verbose: bool) -> None:
    telling = [each for each in readings if each.decisive is not None]
    page.heading(f"{count_of(len(readings), 'text')}, {len(telling)} of them with something at fault")
    shown = telling if verbose else telling[:_MOST_LOGS]
    page.columns(
        [
            (
                f"{each.name}:{each.decisive.line}",
                "the first cause" if each is reading else shorten(each.decisive.text, 100),
            )
            for each in shown
            if each.decisive is not None
        ]
    )
