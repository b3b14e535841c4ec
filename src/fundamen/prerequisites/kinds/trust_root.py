"""A root certificate that the machine trusts."""

import hashlib

from fundamen.machine.machine import ANYWHERE, Machine
from fundamen.machine.trust_stores import read_trust_stores
from fundamen.messages import Message, join_clauses, say
from fundamen.model.paths import MachinePath
from fundamen.model.trust_store import StoreRole, TrustStores
from fundamen.prerequisites.answer import Answer, met, unknown, unmet
from fundamen.prerequisites.requirement import CheckContext, Digest, Requirement


class TrustRoot(Requirement, frozen=True, kw_only=True, tag="root certificate"):
    """The machine itself, and not only a user, trusts the root certificate of a fingerprint."""

    sha256: Digest

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        return say("prerequisites.the-machine-trusts-the-root-certificate", sha256=self.sha256[:16])

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.get-it-from-its-owner-compare")

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        stores = asked.machine.fact(ANYWHERE, _trust_stores)
        held = [each for each in stores.certificates if hashlib.sha256(each.der).hexdigest() == self.sha256]
        roles = {each.role: each for each in held}
        if StoreRole.DISTRUSTED in roles:
            return unmet(say("prerequisites.distrusts-it", where=roles[StoreRole.DISTRUSTED].where))
        if StoreRole.ROOT not in roles:
            if StoreRole.USERS_ROOT in roles:
                return unmet(say("prerequisites.only-one-user-trusts-it-not"))
            return (
                unknown(join_clauses(*stores.gaps))
                if stores.gaps and not stores.certificates
                else unmet(say("prerequisites.it-is-not-there"))
            )
        from fundamen.trust.certificate import read_certificate  # noqa: PLC0415 - it loads much, and few sheets need it

        certificate = read_certificate(roles[StoreRole.ROOT].der)
        if not certificate.not_before <= asked.now <= certificate.not_after:
            return unmet(
                say(
                    "prerequisites.it-holds-from-to", not_before=certificate.not_before, not_after=certificate.not_after
                )
            )
        return met(
            say("prerequisites.it-is-in-until", where=roles[StoreRole.ROOT].where, not_after=certificate.not_after)
        )


def _trust_stores(machine: Machine, _path: MachinePath) -> TrustStores:
    return read_trust_stores(machine)
