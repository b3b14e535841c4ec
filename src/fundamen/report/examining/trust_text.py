"""Who signed a file, and the chains of certificates behind it, as text."""

from fundamen.model.verdict import Verdict
from fundamen.report.page import Page, count_of
from fundamen.trace.certificates import CertificateInspection
from fundamen.trust.certificate import Certificate
from fundamen.trust.chain import IN_WORDS, Chain, ChainStanding, Link, Purpose
from fundamen.trust.fingerprint import group_digits
from fundamen.trust.publisher import Publisher, Signature
from fundamen.trust.publisher import SignatureStanding as Says
from fundamen.trust.remedy import find_root_to_import, remedy

_VERDICTS = {
    Says.TRUSTED: Verdict.VERIFIED,
    Says.UNTRUSTED: Verdict.UNTRUSTED,
    Says.TAMPERED: Verdict.CORRUPT,
    Says.UNSIGNED: Verdict.UNVERIFIED,
}
_VERDICTS_OF_LINKS = {
    ChainStanding.HOLDS: Verdict.VERIFIED,
    ChainStanding.ISSUER_MISSING: Verdict.VERIFIED,
    ChainStanding.EXPIRED: Verdict.OUTDATED,
    ChainStanding.NOT_YET_VALID: Verdict.OUTDATED,
}
_MOST_CHAINS = 8  # that are drawn one by one


def publisher_in_a_sentence(publisher: Publisher) -> str:
    """The answer to "From whom is it?"."""
    name = publisher.name or "an issuer whose certificate is missing"
    listed = " by a catalogue that lists it" if publisher.listed_in else ""
    match publisher.verdict:
        case Says.UNSIGNED:
            return "It is not signed."
        case Says.TAMPERED:
            return f"Its signature does not fit it: {publisher.reason}."
        case Says.UNTRUSTED:
            return f"It is signed by {name}{listed}, whom this machine does not trust: {publisher.reason}."
        case Says.TRUSTED:
            return f"It is signed by {name}{listed}, whom this machine trusts."


def add_publisher(page: Page, publisher: Publisher, importing: str) -> None:
    """Each signature of a file with its chain."""
    for remark in publisher.remarks:
        page.line(f"Note: {remark}.")
    if publisher.listed_in:
        page.field("catalogue", publisher.listed_in, indent=2)
    for number, signature in enumerate(publisher.signatures, 1):
        _add_signature(page, signature, number if len(publisher.signatures) > 1 else None, importing)


def certificates_text(inspection: CertificateInspection, importing: str, *, drawn: bool) -> str:
    """The page for a file of certificates, or for what a server shows."""
    page = Page(drawn=drawn)
    page.answer(_answer(inspection), good=not inspection.is_at_fault)
    for problem in (*inspection.unreadable, *([inspection.wrong_name] if inspection.wrong_name else [])):
        page.line(f"At fault: {problem}.")
    drawn_ones = inspection.failing or inspection.chains
    for chain in drawn_ones[:_MOST_CHAINS]:
        page.heading(f"{chain.links[0].certificate.subject.shown}, for {IN_WORDS[chain.purpose]}")
        _add_names(page, chain.links[0].certificate, chain.purpose)
        add_chain(page, chain, importing)
    if len(drawn_ones) > _MOST_CHAINS:
        page.blank()
        page.line(f"{len(drawn_ones) - _MOST_CHAINS} more are not drawn; --json has them all.")
    return page.text()


def _answer(inspection: CertificateInspection) -> str:
    held = count_of(inspection.count, "certificate")
    what = inspection.kind if inspection.kind == "certificate" else f"{inspection.kind} with {held}"
    lists = f" and {count_of(inspection.revocation_lists, 'revocation list')}" if inspection.revocation_lists else ""
    title = inspection.title.replace("\\", "/").rpartition("/")[2]
    chains = count_of(len(inspection.chains), "chain")
    if inspection.kind == "TLS server":
        state = "and its chain holds" if not inspection.is_at_fault else "and a client of this machine refuses it"
        return f"{title} shows {held}, {state}."
    if not inspection.chains:
        return f"{title} is a {what}{lists}."
    if not inspection.failing:
        state = "which holds" if len(inspection.chains) == 1 else "which all hold"
    else:
        state = (
            "which does not hold" if len(inspection.chains) == 1 else f"{len(inspection.failing)} of them do not hold"
        )
    return f"{title} is a {what}{lists}, the end of {chains}, {state}."


def _add_names(page: Page, certificate: Certificate, purpose: Purpose) -> None:
    if certificate.names and purpose is not Purpose.CODE_SIGNING:
        page.field("names", ", ".join(certificate.names[:12]), indent=2)


def _add_signature(page: Page, signature: Signature, number: int | None, importing: str) -> None:
    page.heading(f"Signature {number}" if number is not None else "Signature")
    name = signature.name or "an issuer whose certificate is missing"
    page.verdict(_VERDICTS[signature.verdict], name, word=signature.verdict)
    if signature.reason and (number is not None or signature.chain is None):  # of one alone the answer says it
        page.line(signature.reason, 6)
    if signature.program_name:
        page.field("calls it", signature.program_name)
    if signature.digest_algorithm:
        page.field("digest", f"{signature.digest_algorithm} {signature.signed_digest}")
        if signature.digest and signature.digest != signature.signed_digest:
            page.field("of the file", signature.digest)
    stamp = signature.timestamp
    if stamp is not None and stamp.problem:
        page.field("timestamp", f"does not count: {stamp.problem}")
    elif stamp is not None and stamp.chain is not None:
        service = stamp.chain.links[0].certificate.subject.shown
        page.field("timestamp", f"{stamp.at:%Y-%m-%d %H:%M} UTC, attested by {service}")
    if signature.chain is not None:
        page.heading("Its chain, from the root down")
        add_chain(page, signature.chain, importing)


def add_chain(page: Page, chain: Chain, importing: str) -> None:
    """The chain of a file or server from the root down, and what would mend it: the command that imports a root."""
    top = chain.links[-1]
    if top.standing is ChainStanding.ISSUER_MISSING:
        page.verdict(Verdict.MISSING, top.certificate.issuer.shown)
        page.line("neither in the file nor in this machine's stores", 6)
        if top.certificate.authority_key_id:
            page.line(f"its key identifier is {group_digits(top.certificate.authority_key_id.hex())}", 6)
    for link in reversed(chain.links):
        page.verdict(
            _VERDICTS_OF_LINKS.get(link.standing, Verdict.UNTRUSTED), link.certificate.subject.shown, word=_word(link)
        )
        _add_link(page, link)
    if chain.failing is not None:
        page.blank()
        page.field("to mend it", remedy(chain), indent=2)
        if importing and find_root_to_import(chain) is not None:
            page.raw(importing)


def _word(link: Link) -> str:
    return ChainStanding.HOLDS if link.standing is ChainStanding.ISSUER_MISSING else link.standing


def _add_link(page: Page, link: Link) -> None:
    certificate = link.certificate
    page.line(
        f"{certificate.not_before:%Y-%m-%d} to {certificate.not_after:%Y-%m-%d}, {certificate.key}, from {link.where}",
        6,
    )
    if link.standing not in {ChainStanding.HOLDS, ChainStanding.ISSUER_MISSING}:
        page.line(link.reason, 6)
    page.line(f"SHA-256 {group_digits(certificate.sha256)}", 6)
