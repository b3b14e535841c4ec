"""Inspect certificates by themselves: those of a file, and those that a server shows."""

import ipaddress
from collections.abc import Sequence
from datetime import datetime

import msgspec

from fundamen.formats.certificates.certificate_file import read_certificates
from fundamen.machine.machine import Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.display import printable
from fundamen.model.errors import DamagedFileError, UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.trace.inspection import holds_certificates
from fundamen.trust.certificate import Certificate, read_certificate
from fundamen.trust.chain import Chain, Issuers, Purpose, build_chain
from fundamen.trust.signed_file import judge_file


class CertificateInspection(msgspec.Struct, frozen=True):
    """The chains that some certificates stand in."""

    title: str  # the file's path, or the server
    kind: str  # in words, as "PEM bundle" or "TLS server"
    count: int  # of all certificates
    chains: tuple[Chain, ...]  # of those that have issued none of the others
    revocation_lists: int = 0
    unreadable: tuple[Message, ...] = ()  # why single certificates could not be read
    wrong_name: Message = UNSAID  # why the first certificate is not for the server that shows it

    @property
    def failing(self) -> tuple[Chain, ...]:
        """The chains that do not hold."""
        return tuple(chain for chain in self.chains if not chain.holds)

    @property
    def is_at_fault(self) -> bool:
        """Whether a chain does not hold, or a server shows the certificate of another."""
        return bool(self.failing or self.wrong_name or self.unreadable)


def inspect_certificates(
    machine: Machine, path: MachinePath, issuers: Issuers, now: datetime, password: str = ""
) -> CertificateInspection:
    """Read a file of certificates and build the chain of each that has issued no other in it.

    Raises:
        UnreadableError: it cannot be read, or holds no certificates.
    """
    with machine.open(path) as source:
        held = read_certificates(source, password)
    return _inspect_chain(path, held.kind, held.certificates, issuers, now, Purpose.ANY, len(held.revocation_lists))


def chain_of(machine: Machine, path: MachinePath, issuers: Issuers, now: datetime) -> Chain | None:
    """The chain that decides whether a file is trusted: of its signature, or of the certificates that it holds.

    None where it has neither.

    Raises:
        UnreadableError: it cannot be read.
    """
    if holds_certificates(machine, path):
        inspected = inspect_certificates(machine, path, issuers, now)
        return next(iter(inspected.failing or inspected.chains), None)
    binary = machine.binary(path)
    if not binary.may_be_signed:
        return None
    with machine.open(path) as source:
        decisive = judge_file(source, binary, issuers, now).decisive
    return decisive.chain if decisive is not None else None


def inspect_server(
    host: str, port: int, certificates: Sequence[bytes], issuers: Issuers, now: datetime
) -> CertificateInspection:
    """Build the chain of the certificates that a TLS server showed, its own first.

    Raises:
        UnreadableError: its certificate cannot be read.
    """
    found = _inspect_chain(f"{host}:{port}", "TLS server", certificates, issuers, now, Purpose.TLS_SERVER)
    if not found.chains:
        raise UnreadableError(
            what=say("trace.the-server-cannot-be-judged", host=printable(host), port=port),
            why=say("trace.its-certificate-cannot-be-read", unreadable="; ".join(found.unreadable)),
            do=say("trace.ask-its-administrator-for-a-valid"),
        )
    first = found.chains[0]
    wrong = "" if is_for(first.links[0].certificate, host) else _names_in_words(first.links[0].certificate)
    return msgspec.structs.replace(found, chains=(first,), wrong_name=wrong)


def is_for(certificate: Certificate, host: str) -> bool:
    """Whether a certificate is for a server of a name or address. Source: RFC 9525, section 6."""
    try:
        address = str(ipaddress.ip_address(host.strip("[]")))
    except ValueError:
        return any(_is_named(name.lower(), host.lower().rstrip(".")) for name in certificate.names)
    return address in certificate.names


def _is_named(pattern: str, host: str) -> bool:
    first, _, rest = pattern.partition(".")
    if first == "*":  # it stands for one label, and for a whole one
        return host.partition(".")[2] == rest and "." in rest
    return pattern == host


def _names_in_words(certificate: Certificate) -> Message:
    names = ", ".join(certificate.names[:5]) or say("trace.no-server-at-all")
    return say("trace.its-certificate-is-for", names=names)


def _inspect_chain(
    title: str,
    kind: str,
    ders: Sequence[bytes],
    issuers: Issuers,
    now: datetime,
    purpose: Purpose,
    revocation_lists: int = 0,
) -> CertificateInspection:
    certificates: list[Certificate] = []
    unreadable: list[Message] = []
    for der in dict.fromkeys(ders):
        try:
            certificates.append(read_certificate(der))
        except DamagedFileError as error:
            unreadable.append(error.why)
    where = "the server" if purpose is Purpose.TLS_SERVER else "the file"
    at_hand = issuers.with_more(ders, where)
    issued = {each.issuer.key for each in certificates if not each.is_self_issued}
    signers = certificates[:1] if purpose is Purpose.TLS_SERVER else []
    signers = signers or [each for each in certificates if each.subject.key not in issued]
    chains = tuple(build_chain(each, at_hand, purpose, now, where) for each in signers)
    return CertificateInspection(title, kind, len(certificates), chains, revocation_lists, tuple(unreadable))
