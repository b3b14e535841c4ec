"""A look into an install package as text: will it run, what does it believe and choose, what does it bundle."""

from collections.abc import Sequence

from fundamen.formats.archives.container import ContainerKind
from fundamen.installers.coverage import Cover
from fundamen.installers.looking import Bundled, Look
from fundamen.installers.msi_run import Conclusion, Judged
from fundamen.installers.outcome import InstallationOutcome
from fundamen.installers.unpacking import UnpackedCopy
from fundamen.prerequisites.answer import RequirementStanding
from fundamen.report.page import Page, count_of, size_in_words

_MOST = 12
_WORD = 11


def installer_text(look: Look, following: Sequence[str], *, verbose: bool, drawn: bool) -> str:
    """The page for one package."""
    page = Page(drawn=drawn)
    page.answer(f"{_title(look)} {_answer(look)}", good=not look.is_at_fault)
    for problem in look.problems:
        page.line(f"Not read to its end: {problem}")
    if look.overruled:
        page.heading("Changes by the given properties")
        for line in look.overruled:
            page.line(line)
    if look.conclusion is not None:
        _add_conclusion(page, look.conclusion, verbose=verbose)
    unmet = [*look.unmet, *(need for need in look.needs if not need.is_met and need not in look.unmet)]
    if unmet:
        page.heading("Needs that this machine does not meet")
        page.columns([(need.field, need.text, need.found) for need in unmet])
    _add_checks(page, look, verbose=verbose)
    _add_bundle(page, look, verbose=verbose)
    if following:
        page.heading("Next")
        for step in following:
            page.step(step)
    return page.text()


def unpacked_text(package: str, copy: UnpackedCopy, *, drawn: bool) -> str:
    """The page after a package was unpacked and changed."""
    page = Page(drawn=drawn)
    changed = f", {count_of(len(copy.edited), 'setting')} changed" if copy.edited else ""
    page.answer(f"{package} lies unpacked in {copy.folder}: {count_of(copy.files, 'file')}{changed}.", good=True)
    page.line(f"The package itself is unchanged. {_cover(copy.cover)}")
    for each in copy.edited:
        before = "it was not there" if each.before is None else f"{each.before or '(empty)'}"
        page.line(f"{each.edit.file}: {'.'.join(each.edit.key)}: {before} -> {each.edit.value or '(empty)'}")
    for path, catalogue in copy.uncovered.items():
        page.line(f"{path} was covered by the signed catalogue {catalogue}, and is not any more.")
    if copy.left_out:
        page.line(f"Links are not made: {', '.join(copy.left_out[:_MOST])}")
    return page.text()


def _cover(cover: Cover) -> str:
    if not cover.is_signed:
        return "The original has no signature, so nothing verifies this copy either."
    if not cover.is_intact:
        return f"Its signature by {cover.signer} does not hold: its bytes are not those that were signed."
    return f"It is signed by {cover.signer}; that signature covers the package, and not this copy."


def outcome_text(outcome: InstallationOutcome, *, drawn: bool) -> str:
    """The page of a package's effects, compared with the forecast."""
    page = Page(drawn=drawn)
    wrong, meant = outcome.wrong, outcome.meant
    title = " ".join(filter(None, (meant.name, meant.version))) or "The package"
    foreseen = [deed for deed in outcome.deeds if deed.meant is not None]
    if wrong:
        page.answer(f"{title}: {count_of(len(wrong), 'thing')} not as meant.", good=False)
    elif foreseen:
        page.answer(f"{title} did what it was meant to do: {count_of(len(foreseen), 'thing')} looked at.", good=True)
    else:
        page.answer(f"{title}: its outcome was not foreseen; the present state is below.")
    page.blank()
    for deed in (*wrong, *(each for each in outcome.deeds if not each.is_wrong)):
        standing = (
            RequirementStanding.UNKNOWN
            if deed.is_done is None
            else RequirementStanding.UNMET
            if deed.is_wrong
            else RequirementStanding.MET
        )
        word = "not known" if deed.is_done is None else "there" if deed.is_done else "not there"
        page.verdict(standing, f"{deed.what}: {deed.found}", word=word, width=_WORD)
    return page.text()


def _title(look: Look) -> str:
    name = " ".join(filter(None, (look.name, look.version))) or look.title.rpartition("/")[2]
    by = f" by {look.publisher}" if look.publisher else ""
    of = f" for {look.architecture}" if look.architecture else ""
    return f"{name}{by} ({look.kind}{of})"


def _answer(look: Look) -> str:
    found = look.conclusion
    if found is None:
        return _answer_without(look)
    if found.hindrances:
        return "will not run here."
    if count := len(found.leftovers):
        does = "does" if count == 1 else "do"
        return f"will decide wrongly here: {count_of(count, 'registered place')} that it uses {does} not exist."
    chosen = sum(part.is_chosen is True for part in found.parts)
    return f"will install {chosen} of {count_of(len(found.parts), 'feature')} here."


def _answer_without(look: Look) -> str:
    """The answer where nothing is concluded."""
    unmet = len(look.unmet)
    if unmet:
        return f"cannot be set up here: {count_of(unmet, 'need')} {'is' if unmet == 1 else 'are'} not met."
    if look.kind is ContainerKind.SCRIPT:
        return "finds all that it calls for certain."
    if look.needs:
        return "has all that it needs on this machine."
    if look.kind is ContainerKind.MSI:
        return "is for Windows; name a volume or prefix with --machine to see what it will conclude there."
    return f"holds {count_of(len(look.files), 'file')}, {count_of(len(look.prerequisites), 'package')} among them."


def _add_conclusion(page: Page, found: Conclusion, *, verbose: bool) -> None:
    if found.hindrances:
        page.heading("Reasons that stop it")
    for each in found.hindrances:
        _add_condition(page, each)
        for name, value in each.asked:
            for search in found.searches:
                if search.property == name and not value:
                    page.field("sought", f"{name} by {search.where}", indent=4)
    _add_leftovers(page, found)
    sound = [each for each in found.searches if not each.leftover and (each.value or verbose)]
    if sound:
        page.heading("Findings of its searches")
        page.columns([(each.property, each.value or "(nothing)", each.where) for each in sound])
    if found.related:
        page.heading("Other versions that are registered")
        page.columns(
            [(e.name, e.version, "will be removed first" if e.is_removed else "stays", e.code) for e in found.related]
        )
    if found.parts:
        page.heading("Features")
        said = {True: "will be installed", False: "will not", None: "cannot be foreseen"}
        page.columns([(part.name, said[part.is_chosen], part.title) for part in found.parts])
    _add_open(page, found, verbose=verbose)


def _add_checks(page: Page, look: Look, *, verbose: bool) -> None:
    """Add the checks of a script, and the settings and variables that steer it."""
    known = [each for each in look.checks if each.holds is not None]
    listed = known if verbose else known[:_MOST]
    if listed:
        page.heading("Its checks, and the answers here")
        said = {True: "holds", False: "does not"}
        page.columns([(e.what, e.says or said[e.holds is True], e.condition) for e in listed])
        _add_rest(page, len(known) - len(listed))
    if look.variables:
        page.heading("Variables of the environment that steer it")
        page.line(", ".join(look.variables))


def _add_leftovers(page: Page, found: Conclusion) -> None:
    if found.leftovers:
        page.heading("Findings of its searches, and the real state")
    for each in found.searches:
        property_text = f"{each.property} = {each.value}" if each.value else f"{each.property} stays empty"
        if each.leftover:
            page.line(f"{property_text}, by {each.where}; but there is nothing at {each.leftover}")
    for related in found.related:
        if related.leftover:
            page.line(f"{related.name} {related.version} is registered; but there is nothing at {related.leftover}")


def _add_open(page: Page, found: Conclusion, *, verbose: bool) -> None:
    """Add the parts that cannot be foreseen."""
    open_ = [each for each in (*found.launch, *found.components) if each.holds is None]
    if open_:
        page.heading("Unknown without running it")
    for each in open_:
        _add_condition(page, each)
    if found.actions:
        page.heading("Code of its own, whose effect is not foreseen")
        runs = {True: "is run", False: "is not run", None: "may be run"}
        listed = found.actions if verbose else found.actions[:_MOST]
        page.columns([(each.what, runs[each.holds], each.condition or "always") for each in listed])
        _add_rest(page, len(found.actions) - len(listed))


def _add_condition(page: Page, judged: Judged) -> None:
    page.line(judged.says or f"{judged.what} depends on a condition")
    page.field("condition", judged.condition, indent=4)
    values = ", ".join(f"{name} is {_value_words(value)}" for name, value in judged.asked)
    page.field("here", judged.problem or values or "it asks about nothing", indent=4)


def _value_words(value: object) -> str:
    return "not known" if value is None else str(value) or "empty"


def _add_bundle(page: Page, look: Look, *, verbose: bool) -> None:
    packages = look.prerequisites
    if packages:
        page.heading("Packages and programs in it")
        page.columns([_row(each) for each in (packages if verbose else packages[:_MOST])])
        _add_rest(page, 0 if verbose else len(packages) - _MOST)
    if look.services:
        page.heading("Services that it installs")
        page.line(", ".join(look.services))
    if look.steering:
        page.heading("Settings files that it reads" if look.kind is ContainerKind.SCRIPT else "Settings files in it")
        for path in look.steering if verbose else look.steering[:_MOST]:
            page.line(path)
        _add_rest(page, 0 if verbose else len(look.steering) - _MOST)
    others = [each for each in look.files if not each.is_package]
    if verbose and others:
        page.heading("Files")
        page.columns([(size_in_words(each.size), each.path) for each in others])
    elif others:
        total = size_in_words(sum(each.size for each in others))
        page.heading("Files")
        page.line(f"{count_of(len(others), 'file')}, {total} in all; --verbose lists where they go.")


def _add_rest(page: Page, count: int) -> None:
    if count > 0:
        page.line(f"{count} more; --verbose lists them.")


def _row(each: Bundled) -> tuple[str, ...]:
    named = " ".join(filter(None, (each.name, each.version))) or "(says no name)"
    return named, str(each.architecture or ""), each.problem or each.path
