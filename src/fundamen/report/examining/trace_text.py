"""A trace as text: the answer, the faults with their reasons, what the program depends on, the next step."""

from collections import Counter, defaultdict
from collections.abc import Sequence
from typing import TYPE_CHECKING

from fundamen.loaders.load_map import ACCOUNT, WORKING_FOLDER, CandidateOutcome
from fundamen.machine.machine import Machine
from fundamen.machine.observation import Observation
from fundamen.messages import Message, as_command, say
from fundamen.model.binary import Format, Necessity
from fundamen.model.verdict import Verdict
from fundamen.report.commands import command
from fundamen.report.page import Page, count_of, shorten, some_of
from fundamen.trace.records import (
    BUNDLE_OF_CERTIFICATES,
    COMMAND,
    DATABASE,
    INSTALLED_FILE,
    INSTALLED_PACKAGE,
    LOADED,
    PRELOAD_LIST,
    STRUCTURE,
    Component,
    Trace,
)
from fundamen.trace.symptom import symptom_of

if TYPE_CHECKING:
    from fundamen.model.paths import MachinePath

_MOST_LISTED = 40  # components; a longer list is summed up unless it is asked for
_NAMES_IN_ANSWER = 3
_NAME_WIDTH = 30
_MOST_SYMBOLS = 8
_FARES = {Verdict.MISSING: "missing", Verdict.CORRUPT: "with other content", Verdict.BLOCKED: "not accessible"}
_TOGETHER = {"symbol", INSTALLED_FILE}  # kinds of which there may be very many faults
_MOST_SAID = 3  # lines of what a program wrote as it ran


def trace_text(trace: Trace, machine: Machine, *, drawn: bool, verbose: bool) -> str:
    """The page for one trace."""
    page = Page(drawn=drawn)
    page.answer(answer(trace, machine), good=not trace.faults)
    _faults(page, trace, machine, verbose=verbose)
    _later(page, trace, machine)
    _remarks(page, trace, machine)
    if trace.observation is not None:
        _observation(page, trace, trace.observation, machine)
    _foundation(page, trace, machine, verbose=verbose)
    page.heading("Next")
    page.step(next_step(trace, machine))
    return page.text()


def _faults(page: Page, trace: Trace, machine: Machine, *, verbose: bool) -> None:
    if not trace.faults:
        return
    order = "" if trace.format is Format.INSTALLED else ", in the order in which the loader meets them"
    page.heading(f"Faults{order}")
    before = ""
    for number, (fault, others) in enumerate(together(trace.faults), 1):
        if number > 1:
            page.blank()
        if number == 1 and (symptom := symptom_of(trace.format, fault)):
            page.field("shows as", symptom)
        looked_in = "; ".join(_folders(fault, machine))
        _fault(page, fault, machine, number, verbose=verbose)
        if others:
            page.field("and so are", some_of(others, None if verbose else _MOST_SYMBOLS))
        if looked_in:
            page.field("looked in", "the same places" if looked_in == before else looked_in)
        before = looked_in


def together(faults: Sequence[Component]) -> list[tuple[Component, list[str]]]:
    """Each fault, with the names of those that differ in nothing else, as the symbols that one file lacks."""
    groups: dict[tuple[object, ...], tuple[Component, list[str]]] = {}
    for place, fault in enumerate(faults):
        alike = (fault.kind, fault.chain, fault.verdict if fault.kind == INSTALLED_FILE else None)
        key = alike if fault.kind in _TOGETHER else (place,)
        if key in groups:
            groups[key][1].append(fault.name)
        else:
            groups[key] = (fault, [])
    return list(groups.values())


def _later(page: Page, trace: Trace, machine: Machine) -> None:
    later = tuple(c for c in trace.components if c.verdict.is_fault and c.how is Necessity.DELAYED)
    if later:
        page.heading("Not needed to start, but at fault when it is called for")
    for component, others in together(later):
        page.verdict(component.verdict, component.name)
        if others:
            page.field("and so are", some_of(others, _MOST_SYMBOLS))
        page.field("because", component.reason)
        page.field("needed by", ", ".join(machine.paths.basename(p) for p in component.needed_by))
        for remark in component.remarks:
            page.field("also", remark)


def _remarks(page: Page, trace: Trace, machine: Machine) -> None:
    """Add remarks that change no verdict; a remark on a fault is shown with the fault."""
    remarked = [c for c in trace.components if c.remarks and not c.verdict.is_fault]
    if remarked or trace.remarks:
        page.heading("Worth knowing")
    for remark in trace.remarks:
        page.field("this machine", f"{remark}", width=14)
    for component in remarked:
        page.line(_plain_name(component, machine))
        for remark in component.remarks:
            page.field("", remark)


def _observation(page: Page, trace: Trace, observation: Observation, machine: Machine) -> None:
    page.heading("As it ran")
    if observation.status is None:
        ended = f"still ran after {observation.seconds:.0f} s, and was stopped"
    else:
        ended = f"ended by itself after {observation.seconds:.1f} s with exit status {observation.status}"
    page.field("run by", f"{observation.by}: it {ended}")
    for component in trace.components:
        name = _plain_name(component, machine)
        if component.observed.code == LOADED and component.how is not Necessity.REQUIRED:
            page.field("loaded too", f"{name}: {component.path}{_asker_words(component, machine)}")
        elif component.observed and component.observed.code != LOADED:
            page.field("in vain", f"{name}: {component.observed}{_asker_words(component, machine)}")
    words = observation.output.split("\n")
    for line in [word for word in words if word.strip()][-_MOST_SAID:]:
        page.field("it said", line.strip())
    if not observation.is_as_before:
        page.field("", "it has written to the prefix's registry, which was left so")


def _asker_words(component: Component, machine: Machine) -> str:
    by = machine.paths.basename(component.asked_by)
    if not by:
        return ""
    return f" by {by}" if component.observed.code.startswith("trace.asked") else f", asked for by {by}"


def answer(trace: Trace, machine: Machine) -> str:
    """The trace in one sentence."""
    name = machine.paths.basename(trace.program)
    if trace.format is Format.INSTALLED:
        return _answer_of_installed(trace, name)
    purpose = "start" if trace.is_of_a_program else "be loaded"
    if not trace.faults:
        if len(trace.components) == 1:
            return f"{name} needs no shared libraries, and its own file is {trace.components[0].verdict}."
        if trace.not_followed:
            return f"{name} itself lacks nothing, but what it starts is not known: {trace.not_followed}."
        return f"{name} has all that it needs to {purpose}{_doubt(trace, machine)}."
    listed = [f"{_plain_name(f, machine)} is {_verdict_words(f.verdict)}" for f in trace.faults]
    if len(listed) > _NAMES_IN_ANSWER:
        more = len(listed) - _NAMES_IN_ANSWER
        listed = [*listed[:_NAMES_IN_ANSWER], f"{more} more {'is' if more == 1 else 'are'} at fault"]
    return f"{name} cannot {purpose} as it should: {', '.join(listed)}."


def title_of(trace: Trace, machine: Machine) -> str:
    """The traced program, as people call it."""
    own = trace.components[0]
    if own.kind == DATABASE:
        return "the package database"
    return own.name if own.kind == INSTALLED_PACKAGE else machine.paths.basename(trace.program)


def _answer_of_installed(trace: Trace, name: str) -> str:
    """The answer for what the package database tells of: a package, a program that is gone, the database itself."""
    own, faults = trace.components[0], trace.faults
    if own.kind == DATABASE:
        return f"The package database {trace.program} is {'damaged' if faults else 'whole'}."
    if own.kind == BUNDLE_OF_CERTIFICATES:
        return f"The bundle of trusted certificates {trace.program} is {_verdict_words(own.verdict)}."
    if own.kind == PRELOAD_LIST:
        return f"{trace.program} is the list of libraries to preload: {own.reason}."
    if own.kind != INSTALLED_PACKAGE:
        return _answer_of_file(own, name)
    if not faults:
        return f"The installed package {own.name} {own.version} has all its files as it brought them."
    counts = Counter(_FARES[fault.verdict] for fault in faults)
    summary = ", ".join(f"{count} {fares}" for fares, count in counts.items())
    verb = "is" if len(faults) == 1 else "are"
    package = f"the installed package {own.name} {own.version}"
    return f"{count_of(len(faults), 'file')} of {package} {verb} at fault: {summary}."


def _answer_of_file(own: Component, name: str) -> str:
    """The answer for one file that a package has brought, or would bring."""
    if own.kind == COMMAND:
        return f"{name} is not installed. The archive has a package of its name."
    if not own.is_fault:
        return f"{name} is {own.reason}."
    if own.verdict is Verdict.MISSING and "/bin/" not in own.name and "/sbin/" not in own.name:
        return f"{own.name} is missing."
    if own.verdict is Verdict.MISSING:
        return f"{name} cannot start: {own.name} is missing."
    return f"{own.name} is {_verdict_words(own.verdict)}."


def next_step(trace: Trace, machine: Machine) -> Message:
    """The next step: a command, or a sentence that ends with a full stop."""
    if trace.is_of_another_machine:
        return say("report.get-the-build-for-this-machine")
    faults = trace.faults
    if faults and faults[0].noun:
        return _next_for_unit(faults[0])
    if faults and faults[0].remedy:
        return as_command(faults[0].remedy)
    if faults and all(fault.brought_by for fault in faults):
        packages = dict.fromkeys(fault.brought_by[0] for fault in faults)
        installing = (word for package in packages for word in ("--install", package))
        return command(machine, "restore", "--rehearse", *installing, trace.program)
    if faults:
        return command(machine, "restore", "--rehearse", trace.program)
    return _next_without_fault(trace, machine)


def _next_for_unit(fault: Component) -> Message:
    """The next step for a thing that a unit names and no package holds."""
    if fault.kind == ACCOUNT:
        return say("report.make-the-user", name=fault.name)
    if fault.kind == WORKING_FOLDER:
        return say("report.make-the-folder", name=fault.name)
    return say("report.put-the-file-of-variables", name=fault.name)


def _next_without_fault(trace: Trace, machine: Machine) -> Message:
    if trace.format is Format.INSTALLED:
        return command(machine, "survey")  # its files are right: what its programs need may not be
    if not trace.is_of_a_program:
        return say("report.trace-the-program-that-uses-it")
    if in_vain := [c for c in trace.components if c.verdict.is_fault and c.how is Necessity.DELAYED]:
        return command(machine, "sources", "offers", machine.paths.basename(in_vain[0].name))
    if trace.observation is not None:
        is_well = trace.observation.status == 0
        return say("report.nothing-it-ended-well" if is_well else "report.look-at-what-the-program-says")
    return as_command(trace.program) if machine.is_live else say("report.run-it-on-its-own-machine")


def _doubt(trace: Trace, machine: Machine) -> str:
    unproven = [machine.paths.basename(c.name) for c in trace.components if c.verdict is Verdict.UNVERIFIED]
    if len(unproven) == len(trace.components):
        return "; none of its files is verified"
    if len(unproven) > _NAMES_IN_ANSWER:
        return f"; {len(unproven)} of its {len(trace.components)} files are not verified"
    *others, last = unproven or [""]
    return f"; not verified: {' and '.join(filter(None, (', '.join(others), last)))}" if unproven else ""


def _verdict_words(verdict: Verdict) -> str:
    said = {
        Verdict.WRONG_ARCHITECTURE: "of the wrong architecture",
        Verdict.SHADOWED: "shadowed by another that is found first",
    }
    return said.get(verdict, str(verdict))


def _fault(page: Page, fault: Component, machine: Machine, number: int, *, verbose: bool) -> None:
    page.verdict(fault.verdict, fault.full_name, number)
    page.field("because", fault.reason)
    if fault.path not in {None, fault.name}:
        page.field("found at", fault.path + (f" (version {fault.version})" if fault.version else ""))
    if fault.needed_by:
        page.field("needed by", " > ".join(machine.paths.basename(p) for p in fault.chain))
        others = [machine.paths.basename(p) for p in fault.needed_by if p != fault.chain[-1]]
        if others:
            page.field("", f"and by {', '.join(others)}")
    for candidate in fault.searched:
        if candidate.outcome is not CandidateOutcome.ABSENT and candidate.outcome is not CandidateOutcome.TAKEN:
            page.field("looked at", f"{candidate.path} ({candidate.because}): {candidate.detail or candidate.outcome}")
    if fault.brought_by:
        page.field("brought by", f"the system's package {' or '.join(fault.brought_by)}")
    for remark in fault.remarks:
        page.field("also", remark)
    for evidence in fault.evidence:
        if evidence.detail not in fault.reason and (verbose or evidence.source != STRUCTURE):
            page.field("also", f"{evidence.source}: {evidence.detail}")


def _folders(fault: Component, machine: Machine) -> list[str]:
    """For what is missing: the folders that were searched in vain, by the rule that led there."""
    by_rule: dict[str, list[MachinePath]] = defaultdict(list)
    is_sought = fault.verdict is Verdict.MISSING and fault.kind not in {COMMAND, INSTALLED_FILE}
    absent = CandidateOutcome.ABSENT
    for candidate in fault.searched if is_sought else ():
        if candidate.outcome is absent:
            by_rule[candidate.because].append(candidate.path)
    return [f"{', '.join(machine.folders_of(paths))} ({rule})" for rule, paths in by_rule.items()]


def _foundation(page: Page, trace: Trace, machine: Machine, *, verbose: bool) -> None:
    rows = [c for c in trace.components if verbose or _is_stood_on(c)]
    if not rows:
        return
    title = "Other dependencies" if len(rows) < len(trace.components) else "Dependencies"
    page.heading(f"{title} of {title_of(trace, machine)}")
    if len(rows) > _MOST_LISTED and not verbose:
        counts = Counter(component.verdict for component in rows)
        page.line(", ".join(f"{count} {verdict}" for verdict, count in counts.items()) + "; --verbose lists them all.")
        return
    page.verdicts((c.verdict, (_short_name(c, machine), _architecture(c), _why(c))) for c in rows)
    if verbose:
        page.heading("Where it lies")
        page.columns([(machine.paths.basename(c.name), c.path) for c in rows if c.path])
    if any(c.verdict is Verdict.UNVERIFIED for c in rows):
        page.line("Unverified: no trusted source knows these files; they may well be right.")


def _is_stood_on(component: Component) -> bool:
    """Whether a component is listed among what is there; faults stand above, each with its reasons."""
    is_left_out = component.how is Necessity.OPTIONAL and component.path is None
    return not (component.verdict.is_fault or is_left_out or component.kind == "symbol")


def _short_name(component: Component, machine: Machine) -> str:
    return shorten(_plain_name(component, machine), _NAME_WIDTH)


def _plain_name(component: Component, machine: Machine) -> str:
    """A component's name as a person says it: a path's last part, an assembly's name without the rest."""
    if component.noun:
        return component.full_name
    if component.kind == "framework":
        return component.name.replace(",Version=v", " ")
    return component.name.partition(",")[0] if "assembly" in component.kind else machine.paths.basename(component.name)


def _architecture(component: Component) -> str:
    return str(component.architecture or component.wanted_architecture)


def _why(component: Component) -> str:
    is_plain = component.verdict is Verdict.UNVERIFIED and not component.evidence
    why = (component.path or component.reason) if is_plain else component.reason
    return f"{why}, {component.version}" if component.version else why
