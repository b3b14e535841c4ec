"""Sources and offers as text."""

from collections.abc import Sequence
from datetime import datetime

from fundamen.model.architecture import Architecture
from fundamen.model.package import UNKNOWN_PUBLISHER, UNKNOWN_VERSION, Package
from fundamen.model.verdict import Verdict
from fundamen.report.page import Page, count_of
from fundamen.sources.catalogue import Catalogue
from fundamen.sources.offers import Offer
from fundamen.sources.own_copies import CheckedCopy, CopyOutcome
from fundamen.trust.fingerprint import group_digits

_MOST_SHOWN = 40  # packages of a source that are reported


def trusted_text(catalogue: Catalogue, *, drawn: bool) -> str:
    """The page after a source was trusted."""
    page = Page(drawn=drawn)
    page.answer(f"The source {catalogue.source.name} is trusted; every signature in it was checked.", good=True)
    page.blank()
    _catalogue(page, catalogue)
    return page.text()


def sources_text(catalogues: Sequence[Catalogue], now: datetime, *, drawn: bool) -> str:
    """The page of all trusted sources."""
    page = Page(drawn=drawn)
    if not catalogues:
        page.answer("No source is trusted yet.")
        page.heading("Next")
        page.raw("fundamen sources trust PLACE --fingerprint FINGERPRINT")
        return page.text()
    expired = [catalogue for catalogue in catalogues if catalogue.expires_at <= now]
    doubt = f"; {len(expired)} expired" if expired else ""
    page.answer(f"{count_of(len(catalogues), 'source')} trusted{doubt}.", good=False if expired else None)
    for catalogue in catalogues:
        page.heading(catalogue.source.name + (" (expired)" if catalogue in expired else ""))
        _catalogue(page, catalogue)
    return page.text()


def copies_text(checked: Sequence[CheckedCopy], *, drawn: bool) -> str:
    """The page of our own copies: what was damaged, and what became of it."""
    page = Page(drawn=drawn)
    changed = [each for each in checked if each.outcome is not CopyOutcome.INTACT]
    gone = sum(each.outcome is CopyOutcome.DELETED for each in changed)
    if not changed:
        none = "There are no copies yet: no source has brought anything in."
        page.answer(f"All {len(checked)} of our own copies are intact." if checked else none, good=True)
        return page.text()
    were = "was" if len(changed) == 1 else "were"
    outcome = "all repaired" if not gone else f"{len(changed) - gone} repaired, {gone} deleted"
    page.answer(f"{len(changed)} of {len(checked)} copies {were} damaged: {outcome}.", good=not gone)
    page.blank()
    for each in changed:
        verdict = Verdict.VERIFIED if each.outcome is CopyOutcome.REPAIRED else Verdict.MISSING
        page.verdict(verdict, each.name, word=each.outcome)
        page.line(each.why or "", 6)
    if gone:
        page.blank()
        page.line("Deleted copies are fetched again when they are needed.")
    return page.text()


def offers_text(
    name: str, offers: Sequence[Offer], architecture: Architecture, builds: Sequence[str], *, drawn: bool
) -> str:
    """The page of all offers for one component.

    Args:
        name: the component.
        offers: the best first.
        architecture: what it is wanted for.
        builds: the versions that have a build for it.
        drawn: whether the terminal can draw block marks.
    """
    page = Page(drawn=drawn)
    eligible = [offer for offer in offers if offer.is_eligible]
    if eligible:
        page.answer(f"{name}: {eligible[0].package.title}, from {eligible[0].source.name}.", good=True)
        if eligible[0].package.proven_by:
            page.line(f"Verified by: {eligible[0].package.proven_by}.", 0)
    elif offers:
        page.answer(f"{name} is known, but no package that has it may be used here.", good=False)
        there = f"Versions with a build for {architecture}: {', '.join(builds)}." if builds else ""
        page.line(there or f"No version that a source has was built for {architecture}.", 0)
    else:
        page.answer(f"No trusted source has {name}.", good=False)
        return page.text()
    page.blank()
    rows = [
        (o.package.name, _version(o.package), str(o.package.architecture), o.source.name, o.obstacle or "may be used")
        for o in offers
    ]
    page.columns(rows, heads=("package", "version", "for", "source", "use"))
    return page.text()


def _catalogue(page: Page, catalogue: Catalogue) -> None:
    source = catalogue.source
    for label, value in (
        ("place", source.location),
        *(("mirror", mirror) for mirror in source.mirrors),
        ("fingerprint", group_digits(source.fingerprint)),
        ("valid until", f"{catalogue.expires_at:%Y-%m-%d %H:%M} UTC"),
        ("packages", str(catalogue.count)),
    ):
        page.field(label, value, indent=2, width=13)
    page.columns([_describe_package(package) for package in catalogue.first(_MOST_SHOWN)], indent=15)
    if catalogue.count > _MOST_SHOWN:
        page.line(f"and {catalogue.count - _MOST_SHOWN} more; ask for one with: fundamen sources offers NAME", 15)


def _version(package: Package) -> str:
    return package.version if package.version != UNKNOWN_VERSION else "not said"


def _describe_package(package: Package) -> tuple[str, str]:
    vouched = f"; verified by {package.proven_by}" if package.proven_by else ""
    withdrawn = f"; withdrawn: {package.withdrawn}" if package.withdrawn is not None else ""
    by = f"by {package.publisher}, " if package.publisher != UNKNOWN_PUBLISHER else ""
    return package.title, f"{by}{count_of(len(package.files), 'file')}{vouched}{withdrawn}"
