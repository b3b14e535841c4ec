"""A toolchain on a machine as text: what must come in which order, which versions are mixed, how it is reached."""

from collections.abc import Sequence

from fundamen.model.verdict import Verdict
from fundamen.report.page import Page, count_of
from fundamen.toolchains.contents import PartState, ToolchainFile
from fundamen.toolchains.examining import Acceptance, Due, Examination, LicenceState

_MOST_NAMED = 4
_LABEL = 18


def toolchain_text(examination: Examination, following: Sequence[str], *, verbose: bool, drawn: bool) -> str:
    """The page for one toolchain."""
    page = Page(drawn=drawn)
    page.answer(_answer(examination), good=examination.is_right)
    if examination.due:
        page.heading("Repairs, in this order")
        for number, due in enumerate(examination.due, 1):
            _add_due(page, examination, due, number, verbose=verbose)
    _add_mixture(page, examination)
    _add_reach(page, examination)
    if examination.reach.users:
        page.heading("Still using what is wrong or was replaced")
        page.columns([(user.name, f"process {user.pid}; restart it afterwards") for user in examination.reach.users])
    _add_remarks(page, examination, verbose=verbose)
    if following:
        page.heading("Next")
        for step in following:
            page.step(step)
    return page.text()


def _answer(examination: Examination) -> str:
    contents, title = examination.contents, f"{examination.toolchain.title} in {examination.folder}"
    count = len(contents.parts)
    if examination.is_right:
        return f"{title}: all {count_of(count, 'part')} for this machine are right, and found first."
    said = []
    if contents.is_mixed:
        said.append(f"{len(contents.versions)} versions are mixed")
    if broken := sum(1 for state in contents.parts if state.verdict is not Verdict.VERIFIED):
        said.append(f"{broken} of {count_of(count, 'part')} {'is' if broken == 1 else 'are'} not right")
    if licences := sum(1 for due in examination.due if due.kind == "licence"):
        said.append(f"{count_of(licences, 'licence')} {'is' if licences == 1 else 'are'} not accepted")
    if contents.leftovers:
        left = len(contents.leftovers)
        said.append(f"{count_of(left, 'file')} of another version {'is' if left == 1 else 'are'} left")
    if not examination.reach.is_right:
        said.append("its commands are not found as they should be")
    return f"{title}: {'; '.join(said)}."


def _add_due(page: Page, examination: Examination, due: Due, number: int, *, verbose: bool) -> None:
    if due.kind == "licence":
        licence = next(each for each in examination.licences if each.licence.name == due.name)
        page.verdict(Verdict.BLOCKED, f"the licence {due.name}", number, word=_licence_word(licence), width=_LABEL)
        why = f"its text comes with {licence.brought_by}" if due.after else f"its text is {licence.path}"
        page.line(why, indent=8)
        return
    state = next(each for each in examination.contents.parts if each.part.name == due.name)
    part = state.part
    page.verdict(state.verdict, f"{due.name} {part.version}, for {part.host.in_words}", number, width=_LABEL)
    for line in _files(state, verbose=verbose):
        page.line(line, indent=8)
    if due.after:
        page.line(f"after {', '.join(due.after)}", indent=8)


def _licence_word(state: LicenceState) -> str:
    return "cannot be shown" if state.acceptance is Acceptance.HIDDEN else "not accepted"


def _files(state: PartState, *, verbose: bool) -> list[str]:
    count, missing = len(state.part.files), sum(1 for file in state.files if file.verdict is Verdict.MISSING)
    if missing == count:
        return ["its file is not there" if count == 1 else f"none of its {count} files is there"]
    shown = state.files if verbose else state.files[:_MOST_NAMED]
    more = len(state.files) - len(shown)
    return [*map(_file_words, shown), *([f"and {more} more of its {count} files (-v names all)"] if more else [])]


def _file_words(file: ToolchainFile) -> str:
    return f"{file.place}: {file.detail}"


def _add_mixture(page: Page, examination: Examination) -> None:
    contents = examination.contents
    if contents.is_mixed:
        page.heading("Mixed versions, by the content of the files")
        page.columns([(version, count_of(count, "file")) for version, count in contents.versions.items()])
        version = examination.toolchain.version
        page.line(f"It is taken for {version}; --should-be names another.")
    if contents.leftovers:
        page.heading("Left from another version")
        rows = [(each.place, f"of {each.version}") for each in contents.leftovers[: _MOST_NAMED * 2]]
        page.columns(rows)
        if more := len(contents.leftovers) - len(rows):
            page.line(f"and {more} more")


def _add_reach(page: Page, examination: Examination) -> None:
    reach = examination.reach
    if reach.is_right:
        return
    page.heading("PATH and environment")
    for path in reach.paths:
        often = "is not on PATH" if not path.count else f"is on PATH {path.count} times"
        page.line(f"{path.folder} {often}; it must be there once.")
    for tool in reach.shadowed:
        page.line(f"{tool.name} is found first as {tool.first}.")
    for variable in reach.variables:
        found = "is not set" if variable.found is None else f"is {variable.found or 'empty'}"
        page.line(f"{variable.name} {found}; it must be {variable.needed}.")


def _add_remarks(page: Page, examination: Examination, *, verbose: bool) -> None:
    contents = examination.contents
    remarks = [f"The part {name} has no build for this machine." for name in contents.not_built]
    remarks += [f"There is also {name}, which nothing starts on this machine." for name in contents.other_hosts]
    if not examination.reach.is_known:
        remarks.append("PATH and variables of this machine are not known; give them with --env PATH=...")
    if verbose and contents.unlisted:
        remarks.append(f"{count_of(contents.unlisted, 'file')} beside that no catalogue lists; left alone.")
    if remarks:
        page.heading("Besides")
        for remark in remarks:
            page.line(remark)
    if verbose and contents.parts:
        page.heading("Parts for this machine")
        page.verdicts(
            (each.verdict, (each.part.name, each.part.version, count_of(len(each.part.files), "file")))
            for each in contents.parts
        )
