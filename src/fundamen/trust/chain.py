"""Build certificate chains over every available issuer, and judge each link. Source: RFC 5280, section 6.1.

Words: the *signer* is the certificate at the bottom, a *root* one that names itself as its issuer, an *anchor* a
certificate that the machine trusts. A chain *holds* if it ends in an anchor and no link of it fails.

Guarantees: a chain holds only if every signature in it was checked; a link that cannot be judged fails.
"""

from collections.abc import Iterable, Sequence
from datetime import UTC, datetime
from enum import StrEnum

import msgspec

from fundamen.messages import UNSAID, Message, say
from fundamen.model.errors import DamagedFileError
from fundamen.model.trust_store import StoredCertificate, StoreRole, TrustStores
from fundamen.trust.certificate import (
    Certificate,
    NameKey,
    RevocationList,
    read_certificate,
    read_revocation_list,
)
from fundamen.trust.checking import is_signed_by
from fundamen.trust.revocation import find_revocation

_LONGEST = 10  # links
_MOST_PATHS = 64
_FEWEST_RSA_BITS = 1024
_BROKEN_HASHES = {"md2", "md4", "md5"}
_SHA1_ENDS = datetime(2017, 1, 1, tzinfo=UTC)  # since then no public authority signs with it (CA/Browser Forum)


class Purpose(StrEnum):
    """Purposes that a chain is to prove, as the extended key usage of the signer's certificate."""

    CODE_SIGNING = "1.3.6.1.5.5.7.3.3"
    TIME_STAMPING = "1.3.6.1.5.5.7.3.8"
    TLS_SERVER = "1.3.6.1.5.5.7.3.1"
    ANY = "2.5.29.37.0"


IN_WORDS = {
    Purpose.CODE_SIGNING: "signing programs",
    Purpose.TIME_STAMPING: "timestamps",
    Purpose.TLS_SERVER: "TLS servers",
    Purpose.ANY: "any purpose",
}
_SERVER_GATED = {"1.3.6.1.4.1.311.10.3.3", "2.16.840.1.113730.4.1"}  # what old authorities have instead of TLS_SERVER


class ChainStanding(StrEnum):
    """How a link of a chain stands."""

    HOLDS = "holds"
    ISSUER_MISSING = "issuer missing"
    ROOT_NOT_TRUSTED = "root not trusted"
    DISTRUSTED = "distrusted"
    REVOKED = "revoked"
    EXPIRED = "expired"
    NOT_YET_VALID = "not yet valid"
    WRONG_PURPOSE = "wrong purpose"
    NOT_AN_AUTHORITY = "not an authority"
    NAME_NOT_ALLOWED = "name not allowed"
    WEAK = "weak algorithm"
    NOT_UNDERSTOOD = "not understood"
    BAD_SIGNATURE = "bad signature"


class Link(msgspec.Struct, frozen=True):
    """One certificate of a chain."""

    certificate: Certificate
    where: str  # where it was found
    standing: ChainStanding
    reason: Message = UNSAID  # why it fails; empty where it holds


class Chain(msgspec.Struct, frozen=True):
    """The best chain that could be built, from the signer up to the last certificate that was found."""

    links: tuple[Link, ...]
    purpose: Purpose
    at: datetime  # the moment for which it was judged

    @property
    def failing(self) -> Link | None:
        """The link that fails; the decisive one where several do. None where the chain holds."""
        failing = [link for link in self.links if link.standing is not ChainStanding.HOLDS]
        return max(failing, key=lambda link: _GRAVITY.index(link.standing), default=None)

    @property
    def holds(self) -> bool:
        """Whether it proves what it is for."""
        return self.failing is None

    @property
    def fault_count(self) -> int:
        """1 where it fails."""
        return int(not self.holds)

    @property
    def why(self) -> Message:
        """Which link fails and why, in half a sentence; empty where the chain holds."""
        failing = self.failing
        if failing is None:
            return UNSAID
        if failing.standing in {ChainStanding.ROOT_NOT_TRUSTED, ChainStanding.ISSUER_MISSING}:
            return failing.reason
        return say("common.said-of", subject=failing.certificate.subject.shown, said=failing.reason)


# From what another remedy may make good to what nothing can.
_GRAVITY = (
    ChainStanding.HOLDS,
    ChainStanding.NOT_YET_VALID,
    ChainStanding.EXPIRED,
    ChainStanding.ROOT_NOT_TRUSTED,
    ChainStanding.ISSUER_MISSING,
    ChainStanding.WEAK,
    ChainStanding.NOT_UNDERSTOOD,
    ChainStanding.NAME_NOT_ALLOWED,
    ChainStanding.WRONG_PURPOSE,
    ChainStanding.NOT_AN_AUTHORITY,
    ChainStanding.BAD_SIGNATURE,
    ChainStanding.REVOKED,
    ChainStanding.DISTRUSTED,
)


class _Held(msgspec.Struct, frozen=True):
    certificate: Certificate
    stored: StoredCertificate


class Issuers:
    """Every available certificate, to build chains over; those that cannot be read are left out."""

    def __init__(self, stores: TrustStores, given: Iterable[StoredCertificate] = ()) -> None:
        """Gather them.

        Args:
            stores: what the machine keeps.
            given: what the file carries or the technician gave; never more than issuers.
        """
        self._by_subject: dict[NameKey, list[_Held]] = {}
        self._roles: dict[str, dict[StoreRole, StoredCertificate]] = {}
        self._on_demand = stores.on_demand
        self._lists: dict[NameKey, list[RevocationList]] = {}
        for der in stores.revocation_lists:
            self.add_list(der)
        for stored in (*stores.certificates, *given):
            self._add(stored)

    def add_list(self, der: bytes) -> None:
        """Take a revocation list into account; it is believed only where its issuer has signed it."""
        try:
            found = read_revocation_list(der)
        except DamagedFileError:
            return
        self._lists.setdefault(found.issuer.key, []).append(found)

    def with_more(self, given: Iterable[bytes], where: str, lists: Iterable[bytes] = ()) -> "Issuers":
        """The same and some more: what one file carries."""
        more = Issuers(TrustStores())
        more._by_subject = {key: list(held) for key, held in self._by_subject.items()}
        more._roles = dict(self._roles)
        more._on_demand = self._on_demand
        more._lists = {key: list(held) for key, held in self._lists.items()}
        for der in given:
            more._add(StoredCertificate(der, StoreRole.ISSUER, where))
        for der in lists:
            more.add_list(der)
        return more

    def role_of(self, certificate: Certificate) -> StoredCertificate | None:
        """The strongest thing that a store says of a certificate; None where no store has it."""
        roles = self._roles.get(certificate.sha256, {})
        for role in (StoreRole.DISTRUSTED, StoreRole.ROOT, StoreRole.ON_DEMAND, StoreRole.USERS_ROOT):
            if role in roles:
                return roles[role]
        if bytes.fromhex(certificate.sha1) in self._on_demand:
            return StoredCertificate(certificate.der, StoreRole.ON_DEMAND, say("trust.the-system-list-of-roots"))
        return None

    def above(self, certificate: Certificate) -> list[_Held]:
        """All certificates with the name of a certificate's issuer, the likeliest first."""
        named = self._by_subject.get(certificate.issuer.key, [])
        wanted = certificate.authority_key_id
        return sorted(named, key=lambda held: (held.certificate.key_id != wanted, not self.is_anchor(held.certificate)))

    def with_name_of(self, certificate: Certificate) -> list[Certificate]:
        """All certificates that have the name of one."""
        return [held.certificate for held in self._by_subject.get(certificate.subject.key, ())]

    def lists_by(self, issuer: Certificate) -> list[RevocationList]:
        """The revocation lists that bear an issuer's name."""
        return self._lists.get(issuer.subject.key, [])

    def is_anchor(self, certificate: Certificate) -> bool:
        """Whether the machine itself trusts a certificate."""
        stored = self.role_of(certificate)
        return stored is not None and stored.role in {StoreRole.ROOT, StoreRole.ON_DEMAND}

    def all_stored(self) -> tuple[StoredCertificate, ...]:
        """Everything that was gathered, as it was given."""
        return tuple(stored for roles in self._roles.values() for stored in roles.values())

    def all(self) -> list[Certificate]:
        """All certificates, each once."""
        return [held.certificate for named in self._by_subject.values() for held in named]

    def _add(self, stored: StoredCertificate) -> None:
        try:
            certificate = read_certificate(stored.der)
        except DamagedFileError:
            return
        roles = self._roles.get(certificate.sha256)
        if roles is None:
            self._by_subject.setdefault(certificate.subject.key, []).append(_Held(certificate, stored))
        self._roles[certificate.sha256] = {stored.role: stored, **(roles or {})}


def build_chain(signer: Certificate, issuers: Issuers, purpose: Purpose, at: datetime, where: str) -> Chain:
    """The best chain from a signer's certificate up: one that holds, otherwise the one that comes nearest to it.

    Args:
        signer: the certificate at the bottom.
        issuers: all that is available.
        purpose: what it is to prove.
        at: the moment for which it must hold.
        where: where the signer's certificate was found.
    """
    best: Chain | None = None
    for path in _Paths(issuers).up_from(_Held(signer, StoredCertificate(signer.der, StoreRole.ISSUER, where))):
        chain = Chain(tuple(_Judging(path, issuers, purpose, at).links()), purpose, at)
        if chain.holds:
            return chain
        if best is None or _badness(chain) < _badness(best):
            best = chain
    assert best is not None  # noqa: S101 - the signer by itself is a path
    return best


def _badness(chain: Chain) -> tuple[int, int]:
    failing = [_GRAVITY.index(link.standing) for link in chain.links if link.standing is not ChainStanding.HOLDS]
    return max(failing), len(failing)


class _Paths:
    """Every way up from a certificate, each as long as issuers are found; the number of steps is bounded."""

    def __init__(self, issuers: Issuers) -> None:
        self._issuers = issuers
        self._left = _MOST_PATHS

    def up_from(self, *path: _Held) -> Iterable[tuple[_Held, ...]]:
        top = path[-1].certificate
        known = {held.certificate.sha256 for held in path}
        went_on = False
        if not self._issuers.is_anchor(top) and not (top.is_self_issued and is_signed_by(top, top)):
            for held in self._issuers.above(top):
                if held.certificate.sha256 in known or len(path) == _LONGEST or not self._left:
                    continue
                self._left -= 1
                if is_signed_by(top, held.certificate):
                    went_on = True
                    yield from self.up_from(*path, held)
        if not went_on:
            yield path


class _Judging:
    """Judges the links of one path."""

    def __init__(self, path: Sequence[_Held], issuers: Issuers, purpose: Purpose, at: datetime) -> None:
        self._path = path
        self._issuers = issuers
        self._purpose = purpose
        self._at = at

    def links(self) -> Iterable[Link]:
        for index, held in enumerate(self._path):
            standing, reason = self._judge(index, held.certificate)
            stored = self._issuers.role_of(held.certificate)
            yield Link(held.certificate, (stored or held.stored).where, standing, reason)

    def _judge(self, index: int, certificate: Certificate) -> tuple[ChainStanding, Message]:
        """The first rule that a link breaks; the gravest rules stand first."""
        stored = self._issuers.role_of(certificate)
        if stored is not None and stored.role is StoreRole.DISTRUSTED:
            return ChainStanding.DISTRUSTED, say("trust.says-that-nothing-with-this-certificate", where=stored.where)
        above = self._path[index + 1].certificate if index + 1 < len(self._path) else None
        if above is not None and (lists := self._issuers.lists_by(above)):
            for issuer in (above, *self._other_keys(index + 1)):
                if revoked := find_revocation(certificate, issuer, lists, self._at):
                    return ChainStanding.REVOKED, revoked
        is_top = above is None
        for standing, reason in (
            self._judge_authority(index, certificate),
            self._judge_purpose(index, certificate, stored),
            self._judge_names(index, certificate),
            self._judge_strength(certificate, is_top=is_top),
            self._judge_top(certificate, stored) if is_top else (ChainStanding.HOLDS, UNSAID),
            self._judge_time(certificate),
        ):
            if standing is not ChainStanding.HOLDS:
                return standing, reason
        return ChainStanding.HOLDS, UNSAID

    def _other_keys(self, index: int) -> Iterable[Certificate]:
        """Further certificates of an authority of the path, whose keys it may have signed its revocation lists with.

        They bear its name, and it or one above it in the path has signed them. Source: RFC 5280, section 6.3.3, (f).
        """
        own = self._path[index].certificate
        signers = [held.certificate for held in self._path[index:]]
        for other in self._issuers.with_name_of(own):
            if other.sha256 != own.sha256 and any(is_signed_by(other, signer) for signer in signers):
                yield other

    def _judge_authority(self, index: int, certificate: Certificate) -> tuple[ChainStanding, Message]:
        is_old_anchor = self._issuers.is_anchor(certificate) and certificate.path_length is None
        if index and not certificate.is_authority and not is_old_anchor:
            return ChainStanding.NOT_AN_AUTHORITY, say("trust.it-has-signed-another-certificate-and")
        if index and not certificate.may_sign_certificates:
            return ChainStanding.NOT_AN_AUTHORITY, say("trust.its-key-usage-does-not-let")
        between = sum(not held.certificate.is_self_issued for held in self._path[1:index])
        if certificate.path_length is not None and index and between > certificate.path_length:
            allowed = certificate.path_length
            return ChainStanding.NOT_AN_AUTHORITY, say(
                "trust.authorities-are-below-it-and-it", between=between, allowed=allowed
            )
        if certificate.not_understood:
            extensions = ", ".join(certificate.not_understood)
            return ChainStanding.NOT_UNDERSTOOD, say("trust.it-has-critical-extensions-that-are", extensions=extensions)
        return ChainStanding.HOLDS, UNSAID

    def _judge_purpose(
        self, index: int, certificate: Certificate, stored: StoredCertificate | None
    ) -> tuple[ChainStanding, Message]:
        """Source: RFC 5280, section 4.2.1.12; an authority's purposes restrict what stands below it."""
        if self._purpose is Purpose.ANY:
            return ChainStanding.HOLDS, UNSAID
        needed: set[str] = {self._purpose, Purpose.ANY}
        if self._purpose is Purpose.TLS_SERVER and index:
            needed |= _SERVER_GATED
        if stored is not None and stored.purposes is not None and not stored.purposes & needed:
            return ChainStanding.WRONG_PURPOSE, say(
                "trust.trusts-it-but-not-for", where=stored.where, words=IN_WORDS[self._purpose]
            )
        if (
            index == 0
            and self._purpose in {Purpose.CODE_SIGNING, Purpose.TIME_STAMPING}
            and not certificate.may_sign_data
        ):
            return ChainStanding.WRONG_PURPOSE, say("trust.its-key-usage-does-not-let-it")
        must_say_so = index == 0 and self._purpose is Purpose.TIME_STAMPING  # RFC 3161, section 2.3
        if certificate.purposes is None and not must_say_so:
            return ChainStanding.HOLDS, UNSAID
        if not (certificate.purposes or frozenset()) & needed:
            return ChainStanding.WRONG_PURPOSE, say("trust.it-may-not-be-used-for", words=IN_WORDS[self._purpose])
        return ChainStanding.HOLDS, UNSAID

    def _judge_names(self, index: int, certificate: Certificate) -> tuple[ChainStanding, Message]:
        if not certificate.has_constraints or not index:
            return ChainStanding.HOLDS, UNSAID
        from fundamen.trust.name_constraints import find_forbidden_name  # noqa: PLC0415 - few authorities have any

        for place, held in enumerate(self._path[:index]):
            if place and held.certificate.is_self_issued:
                continue
            try:
                name = find_forbidden_name(certificate, held.certificate)
            except ValueError as error:
                return ChainStanding.NOT_UNDERSTOOD, say("trust.its-name-constraints-cannot-be-read", error=error)
            if name is not None:
                return ChainStanding.NAME_NOT_ALLOWED, say("trust.it-may-not-speak-for-the", name=name)
        return ChainStanding.HOLDS, UNSAID

    def _judge_strength(self, certificate: Certificate, *, is_top: bool) -> tuple[ChainStanding, Message]:
        if 0 < certificate.key_bits < _FEWEST_RSA_BITS:
            return ChainStanding.WEAK, say("trust.its-key-can-be-broken", key=certificate.key)
        if is_top and certificate.is_self_issued:
            return ChainStanding.HOLDS, UNSAID  # no one relies on the signature of a root
        if certificate.signature_hash in _BROKEN_HASHES:
            return ChainStanding.WEAK, say(
                "trust.it-is-signed-with-which-can", signature_hash=certificate.signature_hash.upper()
            )
        if certificate.signature_hash == "sha1" and self._at >= _SHA1_ENDS:
            return ChainStanding.WEAK, say("trust.it-is-signed-with-sha-1", sha1_ends=_SHA1_ENDS)
        return ChainStanding.HOLDS, UNSAID

    def _judge_top(self, certificate: Certificate, stored: StoredCertificate | None) -> tuple[ChainStanding, Message]:
        if self._issuers.is_anchor(certificate):
            return ChainStanding.HOLDS, UNSAID
        if certificate.is_self_issued and is_signed_by(certificate, certificate):
            name = say("trust.the-root", shown=certificate.subject.shown)
            if stored is not None and stored.role is StoreRole.USERS_ROOT:
                return (
                    ChainStanding.ROOT_NOT_TRUSTED,
                    say("trust.is-only-in-and-not-among", name=name, where=stored.where),
                )
            return ChainStanding.ROOT_NOT_TRUSTED, say("trust.is-not-trusted-by-this-machine", name=name)
        if self._issuers.above(certificate) and len(self._path) < _LONGEST:
            return ChainStanding.BAD_SIGNATURE, say("trust.it-was-not-signed-with-the", shown=certificate.issuer.shown)
        what = "root" if certificate.is_authority else "intermediate authority"
        return ChainStanding.ISSUER_MISSING, say(
            "trust.the-certificate-of-the-is-missing", what=what, shown=certificate.issuer.shown
        )

    def _judge_time(self, certificate: Certificate) -> tuple[ChainStanding, Message]:
        if self._at < certificate.not_before:
            return ChainStanding.NOT_YET_VALID, say("trust.it-is-valid-only-from-on", not_before=certificate.not_before)
        if self._at > certificate.not_after:
            return ChainStanding.EXPIRED, say("trust.it-expired-on", not_after=certificate.not_after)
        return ChainStanding.HOLDS, UNSAID
