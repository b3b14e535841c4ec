"""Find the remedy of an invalid chain, in one sentence."""

from fundamen.messages import UNSAID, Message, say
from fundamen.trust.certificate import Certificate
from fundamen.trust.chain import Chain, ChainStanding


def find_root_to_import(chain: Chain) -> Certificate | None:
    """The root whose import into the machine's store would make a chain hold; None where that would not do it."""
    failing = [link for link in chain.links if link.standing is not ChainStanding.HOLDS]
    if [link.standing for link in failing] == [ChainStanding.ROOT_NOT_TRUSTED]:
        return failing[0].certificate
    return None


def remedy(chain: Chain) -> Message:  # noqa: PLR0911 - one sentence for each standing
    """The remedy of a chain; empty for a valid one."""
    failing = chain.failing
    if failing is None:
        return UNSAID
    certificate = failing.certificate
    name, issuer, at = certificate.subject.shown, certificate.issuer.shown, certificate.issuer_offered_at
    match failing.standing:
        case ChainStanding.ROOT_NOT_TRUSTED:
            return say("trust.have-the-fingerprint-read-out", name=name)
        case ChainStanding.ISSUER_MISSING:
            offered = say("trust.it-is-offered-at", at=at[0]) if at else UNSAID
            return say("trust.get-the-certificate-of-the-issuer", issuer=issuer, offered=offered)
        case ChainStanding.NOT_YET_VALID:
            return say("trust.see-whether-the-clock-is-right", at=f"{chain.at:%Y-%m-%d %H:%M} UTC")
        case ChainStanding.EXPIRED if failing is chain.links[0]:
            return say("trust.get-an-edition-with-a-certificate-in-force")
        case ChainStanding.EXPIRED:
            return say("trust.get-the-new-certificate", name=name)
        case ChainStanding.REVOKED | ChainStanding.DISTRUSTED | ChainStanding.BAD_SIGNATURE:
            return say("trust.do-not-use-what-is-signed-with-it")
        case ChainStanding.WEAK:
            return say("trust.ask-for-an-edition-with-a-stronger-algorithm")
    return say("trust.nothing-on-this-machine-repairs-it", issuer=issuer)
