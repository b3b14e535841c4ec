"""A survey of a machine as text: what stops programs, the cause that stops most first; then what else is amiss."""

from collections import Counter
from collections.abc import Iterator, Sequence

from fundamen.report.page import Page, count_of, some_of
from fundamen.survey.contents import AlterationKind, Altered
from fundamen.survey.needs import Cause
from fundamen.survey.survey import Survey
from fundamen.survey.tidiness import EndingCertificate

_MOST_CAUSES, _MOST_NAMED, _MOST_PACKAGES, _MOST_SPOILT = 20, 3, 12, 8


def survey_text(survey: Survey, following: Sequence[str], *, verbose: bool, drawn: bool) -> str:
    """The page for one machine."""
    page = Page(drawn=drawn)
    page.answer(answer(survey), good=not survey.faults)
    page.line(_coverage_words(survey))
    _add_causes(page, survey.needs.causes, verbose=verbose)
    _add_altered(page, survey, verbose=verbose)
    if survey.unusable:
        page.heading("Commands and certificates that cannot be used")
        page.columns([(each.path, each.why) for each in survey.unusable])
    if survey.unfinished:
        page.heading("Installations that were not finished")
        for each in survey.unfinished:
            page.line(f"{each.what}: {each.why}")
            page.step(f"  {each.do}")
    if survey.spoilt:
        page.heading("Copies that repairs are drawn from, and that are damaged")
        for spoilt in survey.spoilt if verbose else survey.spoilt[:_MOST_SPOILT]:
            page.line(f"{spoilt.path}: {spoilt.why}")
            page.step(f"  {spoilt.do}")
        page.more(0 if verbose else len(survey.spoilt) - _MOST_SPOILT)
    if survey.strays:
        page.heading("Libraries in the folder of another architecture")
        page.columns([(s.path, f"for {s.architecture}, in the folder for {s.folder_is_for}") for s in survey.strays])
    _add_rest(page, survey, verbose=verbose)
    if following:
        page.heading("Next")
        for step in following:
            page.step(step)
    return page.text()


def answer(survey: Survey) -> str:
    """The result of a survey in one sentence."""
    said = list(_answer_parts(survey))
    if not said:
        return "Nothing is at fault: every program has all that it needs to start."
    text = "; ".join(said)
    return f"{text[0].upper()}{text[1:]}."


def _answer_parts(survey: Survey) -> Iterator[str]:
    causes, stopped = sum(bool(cause.programs) for cause in survey.needs.causes), len(survey.stopped)
    lacking = {path for cause in survey.needs.causes if not cause.programs for path in cause.libraries}
    if stopped:
        verb = "keeps" if causes == 1 else "keep"
        yield f"{count_of(causes, 'cause')} {verb} {_programs(stopped)} from starting"
    if lacking:
        libraries = count_of(len(lacking), "library", "libraries")
        yield f"{libraries} {_damaged_words(len(lacking))} a symbol that no file has"
    altered = [each for each in survey.altered if not each.is_setting]
    if altered:
        packages = count_of(len({each.package for each in altered}), "package")
        yield f"{count_of(len(altered), 'file')} of {packages} {_are(len(altered))} not as installed"
    if survey.spoilt:
        copies = count_of(len(survey.spoilt), "copy", "copies")
        yield f"{copies} that repairs are drawn from {_are(len(survey.spoilt))} damaged"
    if survey.unusable:
        yield f"{count_of(len(survey.unusable), 'command or list', 'commands or lists')} cannot be used"
    if survey.unfinished:
        yield f"{count_of(len(survey.unfinished), 'installation')} {_are(len(survey.unfinished))} not finished"
    if survey.strays:
        yield f"{count_of(len(survey.strays), 'library', 'libraries')} {_are(len(survey.strays))} in the wrong folder"


def _programs(count: int) -> str:
    return count_of(count, "program")


def _damaged_words(count: int) -> str:
    return "is damaged, or lacks" if count == 1 else "are damaged, or lack"


def _are(count: int) -> str:
    return "is" if count == 1 else "are"


def _coverage_words(survey: Survey) -> str:
    needs, contents = survey.needs, survey.contents
    looked = f"{_programs(needs.programs)}, {count_of(needs.libraries, 'library', 'libraries')} that none of them loads"
    compared = (
        f"; {count_of(contents.checked, 'installed file')} compared, {contents.read} of them read" if contents else ""
    )
    return f"Looked at: {looked}, {count_of(needs.scripts, 'script')} in {', '.join(survey.folders)}{compared}."


def _add_causes(page: Page, causes: Sequence[Cause], *, verbose: bool) -> None:
    if not causes:
        return
    page.heading("Causes that keep programs from starting, the widest first")
    listed = causes if verbose else causes[:_MOST_CAUSES]
    for number, cause in enumerate(listed, 1):
        page.verdict(cause.component.verdict, cause.title, number)
        page.line(cause.component.reason, indent=8)
        _add_stopped(page, "stops", cause.programs, verbose=verbose)
        _add_stopped(page, "lacking in", cause.libraries, verbose=verbose)
        if cause.component.brought_by:
            page.line(f"brought by {', '.join(cause.component.brought_by)}", indent=8)
    page.more(len(causes) - len(listed))


def _add_stopped(page: Page, verb: str, paths: Sequence[str], *, verbose: bool) -> None:
    if paths:
        page.line(f"{verb} {len(paths)}: {some_of(paths, None if verbose else _MOST_NAMED)}", indent=8)


def _add_altered(page: Page, survey: Survey, *, verbose: bool) -> None:
    altered = survey.altered
    own = [each for each in altered if not each.is_setting]
    if own:
        page.heading("Installed files that are not as their packages brought them")
        by_package: dict[str, list[Altered]] = {}
        for each in own:
            by_package.setdefault(each.package, []).append(each)
        listed = sorted(by_package.items(), key=lambda item: -len(item[1]))
        for package, files in listed if verbose else listed[:_MOST_PACKAGES]:
            page.columns([(package, _findings(files), files[0].path if not verbose else "")])
            for each in files if verbose else ():
                page.line(f"{each.finding}: {each.path} {each.detail or ''}".rstrip(), indent=6)
        page.more(0 if verbose else len(listed) - _MOST_PACKAGES)
    if settings := [each for each in altered if each.is_setting]:
        page.heading("Settings that were changed, as they may be")
        page.line(", ".join(each.path for each in (settings if verbose else settings[:_MOST_NAMED])))


def _certificates(certificates: Sequence[EndingCertificate], *, verbose: bool) -> Iterator[str]:
    """A sentence for those of each store that have ended, and for those that soon will."""
    groups: dict[tuple[str, bool], list[EndingCertificate]] = {}
    for each in certificates:
        groups.setdefault((each.where, each.has_ended), []).append(each)
    for (where, has_ended), found in groups.items():
        names = [f"{each.name} ({each.ends:%Y-%m-%d})" for each in found]
        named = some_of(names, None if verbose else _MOST_NAMED)
        verb = ("has ended" if len(found) == 1 else "have ended") if has_ended else "will soon end"
        yield f"{count_of(len(found), 'certificate')} in {where} {verb}: {named}."


def _findings(files: Sequence[Altered]) -> str:
    counts = Counter(each.finding for each in files)
    words = {
        AlterationKind.MISSING: "missing",
        AlterationKind.DIFFERS: "with other content",
        AlterationKind.BARRED: "not readable",
    }
    return ", ".join(f"{counts[finding]} {word}" for finding, word in words.items() if counts[finding])


def _add_rest(page: Page, survey: Survey, *, verbose: bool) -> None:
    rows: list[str] = []
    if optional := survey.needs.optional:
        limit = None if verbose else 1
        lacking = [f"{e.title} ({some_of((*e.programs, *e.libraries), limit)})" for e in optional]
        named = some_of(lacking, None if verbose else _MOST_NAMED)
        rows.append(f"Optional parts of packages lack what their packages do not require: {named}.")
    rows += _certificates(survey.certificates, verbose=verbose)
    rows += [f"{name} is there in several versions: {', '.join(versions)}." for name, versions in survey.mixed]
    listed = survey.tools if verbose else survey.tools[:_MOST_NAMED]
    rows += [f"{tool.name} is found first as {tool.first}, and also as {', '.join(tool.others)}." for tool in listed]
    if more := len(survey.tools) - len(listed):
        rows.append(
            f"{count_of(more, 'more command')} {'lies' if more == 1 else 'lie'} in several folders of PATH (-v)."
        )
    if links := survey.walked.broken_links:
        shown = ", ".join(links if verbose else links[:_MOST_NAMED])
        rows.append(f"{count_of(len(links), 'link')} {'leads' if len(links) == 1 else 'lead'} nowhere: {shown}")
    if untraced := survey.needs.unreadable:
        rows.append(f"{count_of(len(untraced), 'file')} could not be traced: {untraced[0][0]}: {untraced[0][1]}")
    if verbose and survey.needs.given:
        count = len(survey.needs.given)
        rows.append(
            f"{count_of(count, 'library', 'libraries')} get symbols from the program that loads them; no fault."
        )
    rows += [*survey.gaps, *survey.walked.barred]
    if rows:
        page.heading("Besides")
        for row in rows:
            page.line(row)
