"""Whether the names of a certificate are among those that an authority above it may speak for.

Source: RFC 5280, section 4.2.1.10. A kind of name that is constrained and not known here is refused, never passed.
"""

from collections.abc import Callable
from typing import Any, NamedTuple
from urllib.parse import urlsplit

from cryptography import x509
from cryptography.x509.oid import NameOID

from fundamen.trust.certificate import Certificate, name_key, parsed_certificate


def find_forbidden_name(authority: Certificate, below: Certificate) -> str | None:
    """The first name of a certificate that an authority may not speak for; None where there is none.

    Raises:
        ValueError: the constraints cannot be read.
    """
    constraints = parsed_certificate(authority.der).extensions.get_extension_for_class(x509.NameConstraints).value
    for name in _names_of(below):
        kind = x509.RFC822Name if isinstance(name, _Mail) else type(name)
        permitted = [each for each in constraints.permitted_subtrees or () if type(each) is kind]
        excluded = [each for each in constraints.excluded_subtrees or () if type(each) is kind]
        if not permitted and not excluded:
            continue
        is_within = _RULES.get(kind)
        if is_within is None or any(is_within(name.value, each.value) for each in excluded):
            return _name_text(name)
        if permitted and not any(is_within(name.value, each.value) for each in permitted):
            return _name_text(name)
    return None


def _names_of(certificate: Certificate) -> "list[x509.GeneralName | _Mail]":
    parsed = parsed_certificate(certificate.der)
    names: list[x509.GeneralName | _Mail] = [x509.DirectoryName(parsed.subject)] if list(parsed.subject) else []
    # Where an address of mail stands in the subject, the rules for such addresses are the same.
    names += [_Mail(str(each.value)) for each in parsed.subject.get_attributes_for_oid(NameOID.EMAIL_ADDRESS)]
    try:
        names += list(parsed.extensions.get_extension_for_class(x509.SubjectAlternativeName).value)
    except x509.ExtensionNotFound:
        return names
    return names


class _Mail(NamedTuple):
    """An address of mail in a subject, which may hold what a name of its own could not."""

    value: str


def _is_domain_within(name: str, constraint: str) -> bool:
    host, domain = name.lower(), constraint.lower().removeprefix(".")
    return host == domain or host.endswith(f".{domain}") or not domain


def _is_mail_within(name: str, constraint: str) -> bool:
    if "@" in constraint:
        return name.lower() == constraint.lower()
    host = name.rpartition("@")[2].lower()
    return host.endswith(constraint.lower()) if constraint.startswith(".") else host == constraint.lower()


def _is_address_within(address: Any, network: Any) -> bool:  # noqa: ANN401 - as the library gives them
    return address.version == network.version and address in network


def _is_name_within(name: x509.Name, constraint: x509.Name) -> bool:
    """Whether the name begins with all parts of the constraint."""
    wanted = name_key(constraint)
    return name_key(name)[: len(wanted)] == wanted


def _is_uri_within(uri: str, constraint: str) -> bool:
    """Whether the host of an address is the one of the constraint, or below it where that begins with a full stop."""
    host = (urlsplit(uri).hostname or "").lower()
    return host.endswith(constraint.lower()) if constraint.startswith(".") else host == constraint.lower()


_RULES: dict[type[x509.GeneralName], Callable[[Any, Any], bool]] = {
    x509.DNSName: _is_domain_within,
    x509.RFC822Name: _is_mail_within,
    x509.IPAddress: _is_address_within,
    x509.UniformResourceIdentifier: _is_uri_within,
    x509.DirectoryName: _is_name_within,
}


def _name_text(name: "x509.GeneralName | _Mail") -> str:
    return name.value.rfc4514_string() if isinstance(name, x509.DirectoryName) else str(name.value)
