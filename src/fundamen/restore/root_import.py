"""Import a root certificate into a machine's store, so that a chain which ends in it holds, or remove one.

Guarantees: nothing is imported but a root whose whole SHA-256 fingerprint was typed or passed by the technician; it
goes into the machine's store, never a user's; what is written can be taken out again, also after others have written
there.
"""

from collections.abc import Callable
from datetime import datetime

import msgspec

from fundamen.changes.root_removal import plan_root_removal
from fundamen.changes.root_stores import Keep, plan_root_import
from fundamen.machine.machine import Machine
from fundamen.machine.trust_stores import read_trust_stores
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import DamagedFileError, UntrustedError, UsageError
from fundamen.model.paths import MachinePath
from fundamen.model.trust_store import StoredCertificate, StoreRole, TrustStores
from fundamen.restore.restoration import Prepared
from fundamen.trust.certificate import Certificate, read_certificate
from fundamen.trust.chain import Chain, Issuers
from fundamen.trust.fingerprint import group_digits, read_fingerprint
from fundamen.trust.remedy import find_root_to_import, remedy

Judge = Callable[[Issuers], Chain | None]
_FEWEST_DIGITS, _MOST_ROOTS = 8, 5


class RootImport(msgspec.Struct, frozen=True):
    """A planned import of a root for a file, and its result."""

    root: Certificate
    prepared: Prepared[Chain]  # proven by rebuilding the chain from what the machine then trusts


def prepare_root_import(
    machine: Machine, path: MachinePath, judge: Judge, given: Issuers, keep: Keep, now: datetime
) -> RootImport | None:
    """Find the root whose import makes a file's chain hold; None where it holds already.

    Args:
        machine: whose store it is.
        path: a signed file, or one of certificates.
        judge: builds the file's chain over what is available.
        given: all that is available.
        keep: keeps bytes of ours until they are placed.
        now: this moment.

    Raises:
        UsageError: the file has no chain, or importing a root would not mend it; or the machine takes none.
        UnreadableError: the machine's store cannot be read.
    """
    before = judge(given)
    if before is None:
        raise UsageError(
            what=say("restore.no-root-can-be-imported-for", path=printable(path)),
            why=say("restore.it-has-no-signature-and-no"),
            do=say("restore.see-what-it-is-fundamen-inspect", path=printable(path)),
        )
    if before.holds:
        return None
    root = find_root_to_import(before)
    if root is None:
        raise UsageError(
            what=say("restore.importing-a-root-would-not-make", path=printable(path)),
            why=before.why,
            do=say("restore.certificates-that-are-not-in-the", remedy=remedy(before)),
        )
    stored = StoredCertificate(root.der, StoreRole.ROOT, say("restore.the-machine-store-as-it-would"))

    def judge_chain(issuers: Issuers) -> Chain:
        chain = judge(issuers)
        assert chain is not None  # noqa: S101 - the same file had one before
        return chain

    prepared = Prepared(
        work=plan_root_import(machine, path, root, keep, int(now.timestamp())),
        before=before,
        rehearsed=judge_chain(Issuers(TrustStores((stored,)), given.all_stored())),
        prove=lambda machine: judge_chain(Issuers(read_trust_stores(machine))),
    )
    return RootImport(root, prepared)


class Trusted(msgspec.Struct, frozen=True):
    """In which of a machine's stores a root lies."""

    where: tuple[str, ...]

    @property
    def fault_count(self) -> int:
        """How many of them have it, where none should."""
        return len(self.where)


def roots_of(machine: Machine) -> dict[str, tuple[Certificate, tuple[str, ...]]]:
    """The roots that a machine trusts, by fingerprint: each with where it lies. Raises: UnreadableError."""
    found: dict[str, tuple[Certificate, tuple[str, ...]]] = {}
    for stored in read_trust_stores(machine).certificates:
        if stored.role is not StoreRole.ROOT:
            continue
        try:
            root = read_certificate(stored.der)
        except DamagedFileError:  # a store may hold one that no one can read; nothing is trusted for it
            continue
        where = found[root.sha256][1] if root.sha256 in found else ()
        found[root.sha256] = root, (*where, stored.where) if stored.where not in where else where
    return found


def choose_root(machine: Machine, named: str) -> Certificate:
    """The trusted root that a technician names, by the beginning of its fingerprint or by its name.

    Raises:
        UsageError: no root fits, or several do.
        UnreadableError: the machine's store cannot be read.
    """
    digits = "".join(named.split()).replace(":", "").lower()
    roots = [root for root, _ in roots_of(machine).values()]
    fitting = [root for root in roots if len(digits) >= _FEWEST_DIGITS and root.sha256.startswith(digits)]
    name = named.lower()
    fitting = fitting or [root for root in roots if name in {root.subject.shown.lower(), root.subject.whole.lower()}]
    if len(fitting) == 1:
        return fitting[0]
    digests = ", ".join(group_digits(root.sha256[:16]) for root in fitting[:_MOST_ROOTS])
    raise UsageError(
        what=say("restore.the-root-is-not-chosen", named=printable(named)),
        why=say("restore.roots-are-called-so", count=len(fitting), names=digests)
        if fitting
        else say("restore.trusts-no-such-root", title=machine.title),
        do=say("restore.name-the-beginning-of-its-fingerprint"),
    )


def prepare_root_removal(machine: Machine, root: Certificate, keep: Keep) -> Prepared[Trusted]:
    """Prepare the removal of a root from a machine. Raises: as ``plan_root_removal``."""

    def find_trust(machine: Machine) -> Trusted:
        return Trusted(roots_of(machine).get(root.sha256, (root, ()))[1])

    work = plan_root_removal(machine, root, keep)
    return Prepared(work=work, before=find_trust(machine), prove=find_trust)


def require_fingerprint(root: Certificate, typed: str) -> None:
    """Compare what the technician got over a second way with the root.

    Raises:
        UsageError: it has not the form of a fingerprint.
        UntrustedError: it is another one.
    """
    if read_fingerprint(typed) == root.sha256:
        return
    raise UntrustedError(
        what=say("restore.the-root-is-not-imported", shown=root.subject.shown),
        # The right one is not shown here: pasting it would check nothing.
        why=say("restore.the-fingerprint-that-was-given-is", group_digits=group_digits(read_fingerprint(typed)[:16])),
        do=say("restore.have-it-read-out-again-by"),
    )
