"""What the packager published, as text and JSON."""

from fundamen.report.contracts.sourcing import PublicationRecord
from fundamen.report.page import Page
from fundamen.sources.publishing import Publication
from fundamen.trust.fingerprint import grouped


def publication_text(publication: Publication, *, drawn: bool) -> str:
    """The page after the packager has published."""
    page = Page(drawn=drawn)
    package = publication.package
    page.answer(f"Published and signed: {package.title}, by {package.publisher}.", good=True)
    page.blank()
    page.columns([(f.name, f"{f.size:>9,} bytes", f"{{{f.base}}}/{f.place}") for f in package.files])
    page.heading("Tell technicians this fingerprint, over a second way than the source itself")
    for half in (publication.fingerprint[:32], publication.fingerprint[32:]):
        page.raw(grouped(half))
    page.line(f"The signatures hold until {publication.expires_at:%Y-%m-%d}; publish again before then.")
    return page.text()


def publication_record(publication: Publication) -> PublicationRecord:
    """The contract's form of a publication."""
    package = publication.package
    return PublicationRecord(
        package.title, len(package.files), publication.fingerprint, publication.expires_at.isoformat()
    )
