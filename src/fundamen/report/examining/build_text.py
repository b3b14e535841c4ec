"""A failing build as text: what each step lacks and why, what would mend it, what the step finds."""

from collections.abc import Sequence

from fundamen.building.records import BuildNeed, BuildStep, Sort
from fundamen.loaders.load_map import CandidateOutcome
from fundamen.messages import Message, as_command, say
from fundamen.model.verdict import Verdict
from fundamen.report.page import Page, shorten

_BY_PACKAGE = "building.apt-install"  # the code of a remedy that installs a package
_NAMES_IN_ANSWER = 3
_NAME_WIDTH = 30


def build_text(steps: Sequence[BuildStep], *, drawn: bool, verbose: bool) -> str:
    """The page for one build."""
    page = Page(drawn=drawn)
    page.answer(answer(steps), good=not any(step.faults for step in steps))
    for number, step in enumerate(steps, 1):
        if step.faults or verbose or len(steps) == 1:
            _step(page, step, f"Step {number}: " if len(steps) > 1 else "", verbose=verbose)
    page.heading("Next")
    for line in next_steps(steps):
        page.step(line)
    return page.text()


def answer(steps: Sequence[BuildStep]) -> str:
    """The build in one sentence."""
    faults = [fault for step in steps for fault in step.faults]
    if not faults:
        who = "this step needs" if len(steps) == 1 else f"these {len(steps)} steps need"
        return f"All that {who} is there, where its own tools look."
    listed = [f"{fault.name} is {_verdict_words(fault.verdict)}" for fault in faults[:_NAMES_IN_ANSWER]]
    more = len(faults) - len(listed)
    return f"The build cannot go through: {', '.join(listed)}{f', and {more} more' if more else ''}."


def next_steps(steps: Sequence[BuildStep]) -> list[Message]:
    """The next steps: commands, and sentences that end with a full stop."""
    faults = [fault for step in steps for fault in step.faults]
    if not faults:
        return [say("report.run-the-build-again")]
    packages = dict.fromkeys(f.brought_by[0] for f in faults if f.do.code == _BY_PACKAGE)
    lines = [as_command(f"apt install {' '.join(packages)}")] if packages else []
    lines += [
        Message(f"{fault.do[0].upper()}{fault.do[1:]}.", fault.do.code, fault.do.values)
        for fault in faults
        if fault.do and fault.do.code != _BY_PACKAGE
    ]
    unmended = [fault.name for fault in faults if not fault.do]
    if unmended and lines:
        lines.append(say("report.then-run-the-build-again"))
    elif unmended:
        lines.append(say("report.ask-the-author-of-the-build", names=" and ".join(unmended[:_NAMES_IN_ANSWER])))
    return list(dict.fromkeys(lines))


def _step(page: Page, step: BuildStep, title: str, *, verbose: bool) -> None:
    page.heading(f"{title}{' '.join(step.command) or 'what the log names'}, for {step.architecture}")
    if step.target:
        page.field("target", step.target, indent=2)
    page.field("run in", step.folder, indent=2)
    alike: dict[tuple[str, ...], list[BuildNeed]] = {}
    for fault in step.faults:
        own = fault.name if fault.near or fault.elsewhere or fault.path or verbose else ""
        reason = "" if fault.verdict is Verdict.WRONG_ARCHITECTURE and not own else fault.reason
        alike.setdefault((fault.verdict, fault.sort, fault.asked_by, fault.do, reason, own), []).append(fault)
    for number, faults in enumerate(alike.values(), 1):
        page.blank()
        _fault(page, faults, number, verbose=verbose)
    found = [need for need in step.needs if not need.verdict.is_fault]
    if found:
        page.heading("Found")
        page.verdicts((n.verdict, (_short_name(n), n.sort, n.path or n.reason)) for n in found)


def _short_name(need: BuildNeed) -> str:
    name = need.name.rpartition("/")[2] if need.sort is Sort.START_FILE else need.name
    return shorten(name, _NAME_WIDTH)


def _fault(page: Page, faults: Sequence[BuildNeed], number: int, *, verbose: bool) -> None:
    """One fault, or several that differ in nothing but their names."""
    fault = faults[0]
    page.verdict(fault.verdict, f"{_short_name(fault)} ({fault.sort})", number)
    if len(faults) > 1:
        page.field("and so are", ", ".join(_short_name(other) for other in faults[1:]))
    page.field("because", fault.reason)
    if fault.asked_by:
        page.field("needed by", fault.asked_by)
    for name in fault.near:
        page.field("looks like", name + (f", written in {', '.join(fault.spelled_at)}" if fault.spelled_at else ""))
    for path in fault.elsewhere:
        page.field("lies at", f"{path}, which is not searched")
    if fault.brought_by:
        page.field("brought by", f"the system's package {' or '.join(fault.brought_by[:_NAMES_IN_ANSWER])}")
    for candidate in fault.searched:
        if verbose or candidate.outcome not in {CandidateOutcome.ABSENT, CandidateOutcome.TAKEN}:
            page.field("looked at", f"{candidate.path}: {candidate.detail or candidate.outcome}")
    if fault.sort is not Sort.SYMBOL and fault.do:
        page.field("to mend it", fault.do)


def _verdict_words(verdict: Verdict) -> str:
    return {Verdict.WRONG_ARCHITECTURE: "of the wrong architecture"}.get(verdict, str(verdict))
