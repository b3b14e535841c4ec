"""The report of a trace, or of a case with it, as one page of HTML that needs nothing else and prints well."""

import os
from collections.abc import Iterable, Sequence
from datetime import datetime
from html import escape

from fundamen.cases.store import Case, EntryType
from fundamen.execution.journal import JournalEntry as Restoration
from fundamen.loaders.load_map import CandidateOutcome
from fundamen.machine.machine import Machine
from fundamen.model.binary import Necessity
from fundamen.model.display import printable
from fundamen.model.verdict import Verdict
from fundamen.report.drawing.picture import architecture_of, lay_out
from fundamen.report.drawing.picture_svg import mark_svg, picture_svg
from fundamen.report.examining.trace_text import answer, next_step
from fundamen.trace.records import Component, Trace
from fundamen.trace.symptom import symptom_of

_STYLE = os.path.join(os.path.dirname(os.path.abspath(__file__)), "report_page.css")


def trace_page(
    trace: Trace,
    machine: Machine,
    now: datetime,
    case: Case | None = None,
    restorations: Sequence[Restoration] = (),
) -> str:
    """The page.

    Args:
        trace: of the program, as it stands now.
        machine: that it lies on.
        now: this moment.
        case: whose record goes onto the page.
        restorations: of the machine that were for this program.
    """
    said = answer(trace, machine)
    about = f"{printable(trace.program)} on {printable(machine.title)}, {now.strftime('%Y-%m-%d %H:%M')} UTC"
    title = f" - case {case.number}: {escape(printable(case.title))}" if case else ""
    body = [
        '<a class="skip" href="#faults">To the faults</a>',
        f'<p class="about">{escape(about)}{title}</p>',
        f'<h1 class="{"bad" if trace.faults else "good"}">{escape(printable(said))}</h1>',
        *_faults(trace, machine),
        *_picture(trace, machine, said),
        *_next(trace, machine),
        *(_before_and_now(case, trace, machine) if case is not None else ()),
        *(_record(case) if case is not None else ()),
        *_restoration_rows(restorations),
        *_foundation(trace, machine),
    ]
    return (
        '<!doctype html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n'
        '<meta name="viewport" content="width=device-width">\n'
        f"<title>{escape(printable(machine.paths.basename(trace.program)))}: its dependencies</title>\n"
        f"<style>\n{_style()}</style>\n</head>\n<body>\n<main>\n" + "\n".join(body) + "\n</main>\n</body>\n</html>\n"
    )


def _style() -> str:
    with open(_STYLE, encoding="utf-8") as file:
        return file.read()


def _faults(trace: Trace, machine: Machine) -> Iterable[str]:
    if not trace.faults:
        return ('<p id="faults">No fault was found.</p>',)
    rows = [
        _row(
            [
                (str(number), ""),
                (_verdict(fault.verdict), "word"),
                (f"<code>{_text(fault.name)}</code>", ""),
                (_text(fault.reason) + _evidence(fault), ""),
                (_text(" > ".join(machine.paths.basename(path) for path in fault.chain)), ""),
            ]
        )
        for number, fault in enumerate(trace.faults, 1)
    ]
    symptom = symptom_of(trace.format, trace.faults[0])
    caption = (
        f"The first of them shows as: {_text(symptom)}" if symptom else "In the order in which the loader meets them"
    )
    return (
        '<h2 id="faults">Faults, in the order in which the loader meets them</h2>',
        _table(caption, ("", "verdict", "component", "because", "needed by"), rows),
    )


def _evidence(fault: Component) -> str:
    is_missing = fault.verdict is Verdict.MISSING
    items = [f"found at {fault.path}"] if fault.path is not None else []
    items += [
        f"{candidate.path} ({candidate.because}): {candidate.detail or candidate.outcome}"
        for candidate in fault.searched
        if candidate.outcome
        not in ({CandidateOutcome.TAKEN} if is_missing else {CandidateOutcome.TAKEN, CandidateOutcome.ABSENT})
    ]
    items += [f"{each.source}: {each.detail}" for each in fault.evidence]
    items += [*fault.remarks, *(f"brought by the system's package {name}" for name in fault.brought_by[:1])]
    return "<ul>" + "".join(f"<li>{_text(each)}</li>" for each in items) + "</ul>" if items else ""


def _picture(trace: Trace, machine: Machine, said: str) -> Iterable[str]:
    picture = lay_out(trace, machine)
    lead = " The thick line leads to what is at fault." if trace.faults else ""
    more = f" {picture.left_out} more are in the table below." if picture.left_out else " All is in the table below."
    caption = f"The program is above; below each component is what it needs.{lead}{more}"
    drawn = picture_svg(picture, said)
    return (
        "<h2>Its dependencies</h2>",
        f'<figure tabindex="0">{drawn}<figcaption>{caption}</figcaption></figure>',
    )


def _next(trace: Trace, machine: Machine) -> Iterable[str]:
    step = next_step(trace, machine)
    shown_step = f"<p>{_text(step)}</p>" if step.endswith(".") else f"<pre><code>{_text(step)}</code></pre>"
    return "<h2>Next</h2>", shown_step


def _before_and_now(case: Case, trace: Trace, machine: Machine) -> Iterable[str]:
    """The faults of the case's first trace, compared with the present ones."""
    first = next((entry for entry in case.entries if entry.facts.faults), None)
    if first is None:
        return ()
    now = {machine.paths.basename(component.name): component.verdict for component in trace.components}
    rows = []
    for fault in first.facts.faults:
        verdict = now.get(machine.paths.basename(fault.name))
        before = _verdict(Verdict(fault.verdict)) if fault.verdict in set(Verdict) else _text(fault.verdict)
        after = _verdict(verdict) if verdict is not None else "needed no more"
        rows.append(_row([(f"<code>{_text(fault.name)}</code>", ""), (before, "word"), (after, "word")]))
    at = first.at.strftime("%Y-%m-%d %H:%M")
    return "<h2>Before and now</h2>", _table(
        f"Before: {at} UTC, {_text(first.text)}", ("component", "before", "now"), rows
    )


def _record(case: Case) -> Iterable[str]:
    rows = [
        _row([(entry.at.strftime("%Y-%m-%d %H:%M"), "word"), (_KINDS[entry.kind], "word"), (_text(text), "")])
        for entry in case.entries
        for text in [entry.text + (f": {entry.facts.answer}" if entry.facts.answer else "")
                     + (f" ({entry.facts.outcome})" if entry.facts.outcome else "")]
    ]  # fmt: skip
    helped = f"Solved by: {_text(case.helped)}" if case.helped else "It is open." if case.is_open else "Nothing helped."
    return f"<h2>The record of case {case.number}</h2>", _table(helped, ("at (UTC)", "", "what"), rows)


_KINDS = {EntryType.NOTE: "noted", EntryType.COMMAND: "run", EntryType.TRIED: "tried"}


def _restoration_rows(restorations: Sequence[Restoration]) -> Iterable[str]:
    if not restorations:
        return ()
    rows = [
        _row(
            [
                (str(entry.number), ""),
                (entry.started_at.strftime("%Y-%m-%d %H:%M"), "word"),
                (_text(entry.state), "word"),
                (_text("; ".join(entry.packages) or f"{len(entry.steps)} steps"), ""),
            ]
        )
        for entry in restorations
    ]
    return (
        "<h2>What was restored</h2>",
        _table("Each can be undone: fundamen undo", ("", "at (UTC)", "state", "what"), rows),
    )


def _foundation(trace: Trace, machine: Machine) -> Iterable[str]:
    listed = [
        c for c in trace.components if c.kind != "symbol" and (c.path is not None or c.how is not Necessity.OPTIONAL)
    ]
    rows = [
        _row(
            [
                (_verdict(component.verdict), "word"),
                (f"<code>{_text(machine.paths.basename(component.name))}</code>", ""),
                (_text(architecture_of(component)), "word"),
                (_text(component.version or ""), ""),
                (_text(component.path or ""), ""),
                (_text(component.reason), ""),
            ]
        )
        for component in listed
    ]
    heads = ("verdict", "component", "for", "version", "lies at", "because")
    return "<h2>All of it</h2>", _table(f"{len(listed)} components, in the loader's order", heads, rows)


def _verdict(verdict: Verdict) -> str:
    tone = "good" if verdict is Verdict.VERIFIED else "bad" if verdict.is_fault else ""
    mark = (
        f'<svg class="mark" width="15" height="15" viewBox="-1 -1 15 15" aria-hidden="true">{mark_svg(verdict)}</svg>'
    )
    return f'{mark}<span class="{tone}">{verdict}</span>'


def _table(caption: str, heads: Sequence[str], rows: Sequence[str]) -> str:
    head = "".join(f'<th scope="col">{head or "<span aria-label=number></span>"}</th>' for head in heads)
    return f"<table><caption>{caption}</caption><thead><tr>{head}</tr></thead><tbody>{''.join(rows)}</tbody></table>"


def _row(cells: Sequence[tuple[str, str]]) -> str:
    return "<tr>" + "".join(f"<td{f' class={tone}' if tone else ''}>{cell}</td>" for cell, tone in cells) + "</tr>"


def _text(text: str) -> str:
    return escape(printable(text))
