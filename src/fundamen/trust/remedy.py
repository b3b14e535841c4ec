"""Find the remedy of an invalid chain, in one sentence."""

from fundamen.messages import say
from fundamen.trust.certificate import Certificate
from fundamen.trust.chain import Chain, ChainStanding


def find_root_to_import(chain: Chain) -> Certificate | None:
    """The root whose import into the machine's store would make a chain hold; None where that would not do it."""
    failing = [link for link in chain.links if link.standing is not ChainStanding.HOLDS]
    if [link.standing for link in failing] == [ChainStanding.ROOT_NOT_TRUSTED]:
        return failing[0].certificate
    return None


def remedy(chain: Chain) -> str:
    """The remedy of a chain; empty for a valid one."""
    failing = chain.failing
    if failing is None:
        return ""
    certificate = failing.certificate
    at = certificate.issuer_offered_at
    is_signer = failing is chain.links[0]
    kind = "expired signer" if is_signer and failing.standing is ChainStanding.EXPIRED else failing.standing
    return _REMEDIES.get(kind, "Nothing on this machine repairs it: ask the administrator of {issuer}.").format(
        name=certificate.subject.shown,
        issuer=certificate.issuer.shown,
        offered=say("trust.it-is-offered-at", at=at[0]) if at else "",
        at=f"{chain.at:%Y-%m-%d %H:%M} UTC",
    )


_DO_NOT_USE = "Do not use what is signed with it. Ask its publisher for another edition."
_REMEDIES: dict[str, str] = {
    ChainStanding.ROOT_NOT_TRUSTED: (
        "Have the SHA-256 fingerprint of {name} read out by its owner over a second way; if it is the same, import it"
        " into the machine's store."
    ),
    ChainStanding.ISSUER_MISSING: "Get the certificate of {issuer} from its owner{offered}.",
    ChainStanding.NOT_YET_VALID: "See whether this machine's clock is right: the chain was judged for {at}.",
    "expired signer": "Get an edition that is signed with a certificate in force, or with a timestamp.",
    ChainStanding.EXPIRED: "Get the new certificate of {name}, and see whether this machine's clock is right.",
    ChainStanding.REVOKED: _DO_NOT_USE,
    ChainStanding.DISTRUSTED: _DO_NOT_USE,
    ChainStanding.BAD_SIGNATURE: _DO_NOT_USE,
    ChainStanding.WEAK: "Ask its publisher for an edition that is signed with a stronger algorithm.",
}
