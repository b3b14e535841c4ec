"""Lay out a publication as text and JSON."""

from collections.abc import Sequence

from fundamen.report.contracts.sourcing import PublicationRecord
from fundamen.report.page import Page, count_of
from fundamen.sources.publishing import Publication
from fundamen.trust.fingerprint import group_digits

_MOST_FILES = 12


def publication_text(publications: Sequence[Publication], *, verbose: bool, drawn: bool) -> str:
    """The page after the packager has published."""
    page = Page(drawn=drawn)
    first = publications[0]
    title = first.package.title if len(publications) == 1 else count_of(len(publications), "package")
    page.answer(f"Published and signed: {title}, by {first.package.publisher}.", good=True)
    for publication in publications:
        package = publication.package
        if len(publications) > 1:
            page.heading(package.title)
        else:
            page.blank()
        if package.proven_by:
            page.line(f"proof: {package.proven_by}")
        shown = package.files if verbose else package.files[:_MOST_FILES]
        page.columns([(f.name, f"{f.size:>9,} bytes", f"{{{f.base}}}/{f.place}") for f in shown])
        if len(shown) < len(package.files):
            page.line(f"{len(package.files) - len(shown)} more files; --verbose lists all.")
    page.heading("Tell technicians this fingerprint, over a second way than the source itself")
    for half in (first.fingerprint[:32], first.fingerprint[32:]):
        page.raw(group_digits(half))
    page.line(f"The signatures hold until {first.expires_at:%Y-%m-%d}; publish or renew before then.")
    return page.text()


def publication_record(publication: Publication) -> PublicationRecord:
    """The contract's form of a publication."""
    package = publication.package
    return PublicationRecord(
        str(package.title), len(package.files), publication.fingerprint, publication.expires_at.isoformat()
    )
