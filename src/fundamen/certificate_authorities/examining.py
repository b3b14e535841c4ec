"""How the certificate authority of a directory stands: its entry, its certificate, its host, what it has issued.

Source: RFC 4523 (``pkiCA``, ``cACertificate``); RFC 5280, section 4.2.1 (what an authority's certificate says).
"""

from collections.abc import Iterator, Sequence
from datetime import datetime, timedelta

import msgspec

from fundamen.directories.connection import Attributes, DirectoryConnection
from fundamen.directories.host import NamedHost, find_host, value_of
from fundamen.messages import UNSAID, Message, as_said, say
from fundamen.model.errors import DamagedFileError
from fundamen.trust.certificate import Certificate, read_certificate
from fundamen.trust.checking import is_signed_by

USUAL_ATTRIBUTE = "cACertificate;binary"
_SOON = timedelta(days=30)


class EntryRequirements(msgspec.Struct, frozen=True, kw_only=True):
    """Requirements on an authority's entry."""

    entry: str
    certificate_in: str = USUAL_ATTRIBUTE
    host_in: str | None = None  # the attribute that names its host; None: none must
    host_port: int | None = None  # where that host must answer
    has: tuple[str, ...] = ()  # further attributes
    issued: tuple[tuple[str, Certificate], ...] = ()  # (where it is from, certificate) of what it must have issued


class EntryFinding(msgspec.Struct, frozen=True):
    """One thing that was looked at."""

    about: str
    is_right: bool
    found: Message


class AuthorityState(msgspec.Struct, frozen=True, kw_only=True):
    """All that was found out about an authority."""

    wanted: EntryRequirements
    findings: tuple[EntryFinding, ...]
    held: Attributes  # what its entry holds; empty where there is none
    certificate: Certificate | None  # the newest that can be read
    host: NamedHost | None
    resuming: Message  # how a waiting installer continues safely

    @property
    def faults(self) -> tuple[EntryFinding, ...]:
        """Requirements that are not met."""
        return tuple(finding for finding in self.findings if not finding.is_right)


def examine_authority(
    directory: DirectoryConnection, wanted: EntryRequirements, now: datetime, seconds: float
) -> AuthorityState:
    """Look at an authority.

    Args:
        directory: where its entry is.
        wanted: what it must have.
        now: this moment.
        seconds: how long its host is waited for.

    Raises:
        UnreadableError: the directory does not say.
    """
    held = directory.read(wanted.entry)
    if held is None:
        above = (
            say("certificate_authorities.the-last-one-above-it-is", nearest=directory.nearest)
            if directory.nearest
            else ""
        )
        absent = EntryFinding(
            "the entry", is_right=False, found=say("certificate_authorities.there-is-none", above=above)
        )
        return AuthorityState(
            wanted=wanted,
            findings=(absent,),
            held={},
            certificate=None,
            host=None,
            resuming=say("certificate_authorities.a-waiting-installer-must-be-started"),
        )
    certificates = list(_certificates(held, wanted.certificate_in))
    newest = max((each for each in certificates if each is not None), key=lambda each: each.not_after, default=None)
    host = find_host(held, wanted.host_in, wanted.host_port, seconds) if wanted.host_in is not None else None
    findings = (
        EntryFinding("the entry", is_right=True, found=say("certificate_authorities.it-is-there")),
        *_of_certificate(wanted, certificates, newest, now),
        *([EntryFinding("its host", is_right=host.answers, found=host.found)] if host is not None else []),
        *(_of_attribute(held, name) for name in wanted.has),
        *(_of_issued(where, issued, newest, now) for where, issued in wanted.issued),
    )
    return AuthorityState(
        wanted=wanted,
        findings=findings,
        held=held,
        certificate=newest,
        host=host,
        resuming=_advice_to_resume(findings, newest, host),
    )


def _certificates(held: Attributes, attribute: str) -> Iterator[Certificate | None]:
    """Those that the entry holds; None for one that cannot be read."""
    wanted = attribute.lower().removesuffix(";binary")
    for name, values in held.items():
        if name.lower().removesuffix(";binary") == wanted:
            for value in values:
                try:
                    yield read_certificate(value)
                except DamagedFileError:
                    yield None


def _of_certificate(
    wanted: EntryRequirements, certificates: Sequence[Certificate | None], newest: Certificate | None, now: datetime
) -> Iterator[EntryFinding]:
    about = "its certificate"
    if newest is None:
        why = (
            say("certificate_authorities.none-of-those-it-has-can")
            if certificates
            else say("certificate_authorities.it-has-none-it-has-no", certificate_in=wanted.certificate_in)
        )
        yield EntryFinding(about, is_right=False, found=why)
        return
    entry_text = say(
        "certificate_authorities.until-sha-256",
        whole=newest.subject.whole,
        not_after=newest.not_after,
        sha256=newest.sha256[:16],
    )
    problem = next(_problems(newest, now), UNSAID)
    found = say("common.said-of", subject=entry_text, said=problem) if problem else entry_text
    yield EntryFinding(about, is_right=not problem, found=found)
    if not problem and newest.not_after - now < _SOON:
        yield EntryFinding(
            "its time",
            is_right=False,
            found=say("certificate_authorities.it-ends-in-days", days=(newest.not_after - now).days),
        )


def _problems(certificate: Certificate, now: datetime) -> Iterator[Message]:
    if not certificate.is_authority:
        yield say("certificate_authorities.it-is-no-authority-its-basic")
    if not certificate.may_sign_certificates:
        yield say("certificate_authorities.its-key-may-not-sign-certificates")
    if certificate.not_before > now:
        yield say("certificate_authorities.it-holds-only-from-on", not_before=certificate.not_before)
    if certificate.not_after <= now:
        yield say("certificate_authorities.it-has-ended")
    if certificate.is_self_issued and not is_signed_by(certificate, certificate):
        yield say("certificate_authorities.its-own-signature-does-not-hold")


def _of_attribute(held: Attributes, name: str) -> EntryFinding:
    values = value_of(held, name)
    return EntryFinding(
        say("certificate_authorities.its", name=name),
        is_right=bool(values),
        found=as_said(", ".join(values)) if values else say("certificate_authorities.it-has-none"),
    )


def _of_issued(where: str, issued: Certificate, authority: Certificate | None, now: datetime) -> EntryFinding:
    about = say("certificate_authorities.the-certificate-of", where=where)
    if authority is None or issued.issuer.key != authority.subject.key or not is_signed_by(issued, authority):
        return EntryFinding(
            about,
            is_right=False,
            found=say("certificate_authorities.this-authority-has-not-issued-it", whole=issued.issuer.whole),
        )
    if issued.not_after <= now:
        return EntryFinding(
            about, is_right=False, found=say("certificate_authorities.it-ended-on", not_after=issued.not_after)
        )
    return EntryFinding(
        about, is_right=True, found=say("certificate_authorities.issued-by-it-until", not_after=issued.not_after)
    )


def _advice_to_resume(
    findings: Sequence[EntryFinding], certificate: Certificate | None, host: NamedHost | None
) -> Message:
    """How a program that waits for the authority continues safely once the fault is mended."""
    wrong = {finding.about for finding in findings if not finding.is_right}
    if not wrong:
        made = f"{certificate.not_before:%Y-%m-%d %H:%M} UTC" if certificate is not None else "then"
        return say("certificate_authorities.a-waiting-installer-may-continue-choose", made=made)
    if "its certificate" in wrong or certificate is None:
        return say("certificate_authorities.a-waiting-installer-must-be-started-again")
    if wrong == {"its host"}:
        is_named = host is not None and bool(host.name)
        mended = "answers" if is_named else "is named"
        return say("certificate_authorities.a-waiting-installer-may-continue-once", mended=mended)
    return say("certificate_authorities.a-waiting-installer-may-continue-once-this")
