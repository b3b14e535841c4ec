"""The publisher's signature as an authority: on the file itself, or on a catalogue of the machine that lists it."""

import contextlib
import re
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime

import msgspec

from fundamen.evidence.authority import Says, Subject, Testimony
from fundamen.formats.byte_source import ByteSource
from fundamen.machine.machine import ANYWHERE, EntryKind, Machine
from fundamen.machine.trust_stores import read_trust_stores
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.binary import Binary
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.model.trust_store import StoredCertificate
from fundamen.trust.chain import Issuers
from fundamen.trust.publisher import Publisher, SignatureStanding, judge_listed
from fundamen.trust.signed_file import digest_of_image, judge_file

_SPEAKER = "publisher"
_CATALOGUES = MachinePath("C:\\Windows\\System32\\CatRoot")
_MOST_CATALOGUE = 32 << 20  # bytes
_LISTED_BY = ("sha256", "sha1")
# An octet string of the size of either digest; they may overlap by chance.
_DIGESTS = re.compile(rb"(?=\x04(?:\x20(.{32})|\x14(.{20})))", re.DOTALL)


class PublisherAuthority:
    """Speaks about files that a publisher signed.

    It confirms bytes that were signed by a signer whom the machine trusts, and speaks against bytes that are not
    those that were signed. Who is not trusted is only named: no loader asks for it, but an installer may.
    """

    def __init__(self, now: datetime, given: Sequence[StoredCertificate] = (), lists: Sequence[bytes] = ()) -> None:
        """Make it.

        Args:
            now: this moment.
            given: certificates that help to build chains, and are trusted by no one for it.
            lists: revocation lists besides those that the machine keeps.
        """
        self._now = now
        self._given = given
        self._lists = lists

    def testify(self, machine: Machine, subjects: Sequence[Subject]) -> dict[MachinePath, Testimony]:
        """Speak about the files that are signed."""
        if machine.platform is not Platform.WINDOWS:
            return {}
        judged: dict[MachinePath, Publisher] = {}
        unsigned: dict[MachinePath, dict[bytes, str]] = {}
        for subject in subjects:
            with contextlib.suppress(UnreadableError, OSError):
                binary = machine.binary(subject.path)
                if not binary.may_be_signed:
                    continue
                with machine.open(subject.path) as source:
                    judged[subject.path] = judge_file(source, binary, self.issuers(machine), self._now)
                    if judged[subject.path].verdict is SignatureStanding.UNSIGNED and _has_catalogues(machine):
                        unsigned[subject.path] = _digests(source, binary)
        judged.update(self._find_listed(machine, unsigned))
        return {path: said for path, publisher in judged.items() if (said := _testimony(publisher)) is not None}

    def judge(self, machine: Machine, path: MachinePath, source: ByteSource, binary: Binary) -> Publisher:
        """Say from whom a file is; one that is not signed itself may be listed in a signed catalogue of the machine."""
        publisher = judge_file(source, binary, self.issuers(machine), self._now)
        if publisher.verdict is SignatureStanding.UNSIGNED and _has_catalogues(machine):
            return self._find_listed(machine, {path: _digests(source, binary)}).get(path, publisher)
        return publisher

    def issuers(self, machine: Machine) -> Issuers:
        """All certificates on a machine."""
        return machine.fact(ANYWHERE, _gather_issuers, tuple(self._given), tuple(self._lists))

    def _find_listed(
        self, machine: Machine, wanted: Mapping[MachinePath, Mapping[bytes, str]]
    ) -> dict[MachinePath, Publisher]:
        """The publishers of files that are listed in catalogues; those of which the catalogue is trusted go first.

        A catalogue is searched as bare bytes; of thousands only those that may list a file are taken apart.
        """
        found: dict[MachinePath, Publisher] = {}
        values = {value for digests in wanted.values() for value in digests}
        if not values:
            return found
        for catalogue, data in _catalogues(machine):
            listed = {match[1] or match[2] for match in _DIGESTS.finditer(data)} & values
            for path, digests in wanted.items() if listed else ():
                for value in listed & digests.keys():
                    publisher = judge_listed(data, digests[value], value, self.issuers(machine), self._now)
                    best = found.get(path)
                    if publisher is not None and (best is None or best.verdict is not SignatureStanding.TRUSTED):
                        found[path] = msgspec.structs.replace(publisher, listed_in=catalogue)
        return found


def _gather_issuers(
    machine: Machine, _path: MachinePath, given: tuple[StoredCertificate, ...], lists: tuple[bytes, ...]
) -> Issuers:
    """All certificates on a machine; as a fact, since reading them takes a while."""
    issuers = Issuers(read_trust_stores(machine), given)
    for der in lists:
        issuers.add_list(der)
    return issuers


def _has_catalogues(machine: Machine) -> bool:
    return machine.platform is Platform.WINDOWS and machine.look(_CATALOGUES).kind is EntryKind.FOLDER


def _catalogues(machine: Machine) -> Iterator[tuple[MachinePath, bytes]]:
    """Every catalogue of the machine with its bytes; those that cannot be read are passed over."""
    for folder in machine.names(_CATALOGUES):
        for name in machine.names(machine.join(_CATALOGUES, folder)):
            path = machine.join(_CATALOGUES, folder, name)
            if name.lower().endswith(".cat") and machine.look(path).kind is EntryKind.FILE:
                with contextlib.suppress(UnreadableError, OSError):
                    yield path, machine.content(path, _MOST_CATALOGUE)


def _digests(source: ByteSource, binary: Binary) -> dict[bytes, str]:
    digest = digest_of_image(source, binary)
    return {digest(algorithm): algorithm for algorithm in _LISTED_BY}


def _testimony(publisher: Publisher) -> Testimony | None:
    through = say("evidence.listed-in", listed_in=publisher.listed_in) if publisher.listed_in else ""
    match publisher.verdict:
        case SignatureStanding.TRUSTED:
            return Testimony(_SPEAKER, Says.RIGHT, say("evidence.signed-by", name=publisher.name, through=through))
        case SignatureStanding.TAMPERED:
            return Testimony(_SPEAKER, Says.WRONG, publisher.reason)
        case SignatureStanding.UNTRUSTED:
            detail = say(
                "evidence.signed-by-whom-this-machine-does",
                name=publisher.name or say("evidence.an-unknown-signer"),
                through=through,
            )
            return Testimony(_SPEAKER, Says.UNKNOWN, say("common.said-of", subject=detail, said=publisher.reason))
        case SignatureStanding.UNSIGNED:
            return None
