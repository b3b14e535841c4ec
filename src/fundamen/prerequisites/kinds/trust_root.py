"""A root certificate that the machine trusts."""

import hashlib

from fundamen.machine.machine import ANYWHERE, Machine
from fundamen.machine.trust_stores import read_trust_stores
from fundamen.model.paths import MachinePath
from fundamen.model.trust_store import StoreRole, TrustStores
from fundamen.prerequisites.answer import Answer, met, unknown, unmet
from fundamen.prerequisites.requirement import CheckContext, Digest, Requirement


class TrustRoot(Requirement, frozen=True, kw_only=True, tag="root certificate"):
    """The machine itself, and not only a user, trusts the root certificate of a fingerprint."""

    sha256: Digest

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        return f"the machine trusts the root certificate {self.sha256[:16]}..."

    @property
    def advice(self) -> str:
        """Advise where it is unmet and the sheet gives no advice."""
        return "Get it from its owner, compare the fingerprint a second way, and import it: fundamen restore --help"

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        stores = asked.machine.fact(ANYWHERE, _trust_stores)
        held = [each for each in stores.certificates if hashlib.sha256(each.der).hexdigest() == self.sha256]
        roles = {each.role: each for each in held}
        if StoreRole.DISTRUSTED in roles:
            return unmet(f"{roles[StoreRole.DISTRUSTED].where} distrusts it")
        if StoreRole.ROOT not in roles:
            if StoreRole.USERS_ROOT in roles:
                return unmet("only one user trusts it, not an installer or service that runs as the machine")
            return (
                unknown("; ".join(stores.gaps)) if stores.gaps and not stores.certificates else unmet("it is not there")
            )
        from fundamen.trust.certificate import read_certificate  # noqa: PLC0415 - it loads much, and few sheets need it

        certificate = read_certificate(roles[StoreRole.ROOT].der)
        if not certificate.not_before <= asked.now <= certificate.not_after:
            return unmet(f"it holds from {certificate.not_before:%Y-%m-%d} to {certificate.not_after:%Y-%m-%d}")
        return met(f"it is in {roles[StoreRole.ROOT].where}, until {certificate.not_after:%Y-%m-%d}")


def _trust_stores(machine: Machine, _path: MachinePath) -> TrustStores:
    return read_trust_stores(machine)
