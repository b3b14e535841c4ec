"""Sentences and clauses of ``certificate_authorities``, by their codes."""

TEXTS = {
    "the-last-one-above-it-is": "; the last one above it is {nearest}",
    "there-is-none": "there is none{above}",
    "a-waiting-installer-must-be-started": "A waiting installer must be started again once the entry is there.",
    "it-is-there": "it is there",
    "none-of-those-it-has-can": "none of those it has can be read",
    "it-has-none-it-has-no": "it has none: it has no {certificate_in}",
    "until-sha-256": "{whole}, until {not_after:%Y-%m-%d}, SHA-256 {sha256}...",
    "its": "its {name}",
    "it-has-none": "it has none",
    "the-certificate-of": "the certificate of {where}",
    "this-authority-has-not-issued-it": "this authority has not issued it; {whole} has",
    "it-ended-on": "it ended on {not_after:%Y-%m-%d}",
    "issued-by-it-until": "issued by it, until {not_after:%Y-%m-%d}",
    "a-waiting-installer-may-continue-choose": (
        "A waiting installer may continue: choose to try again in its window. If it read the certificate before "
        "{made}, when that was made, start it again."
    ),
    "a-waiting-installer-must-be-started-again": (
        "A waiting installer must be started again once the authority has a new certificate: the old one that it "
        "has read is not valid any more."
    ),
    "a-waiting-installer-may-continue-once": (
        "A waiting installer may continue once the host {mended}: it asks the directory again each time."
    ),
    "a-waiting-installer-may-continue-once-this": (
        "A waiting installer may continue once this is repaired: the authority's certificate does not change."
    ),
    "the-key-cannot-be-used": "The key {name} cannot be used",
    "name-the-authority-private-key-and": (
        "Name the authority's private key, and a file with its password if it has one: --key-password FILE."
    ),
    "the-key-is-not-used": "The key {name} is not used",
    "no-certificate-that-others-accept-can": (
        "no certificate that others accept can be made with it: it is too short, or of another kind"
    ),
    "an-authority-key-is-rsa-of": (
        "An authority's key is RSA of {least_rsa_bits} bits or more, or of an elliptic curve."
    ),
    "the-authority-cannot-be-renewed-with": "The authority {shown} cannot be renewed with its own key",
    "its-certificate-was-issued-by": "its certificate was issued by {whole}",
    "have-that-authority-issue-it-again": "Have that authority issue it again: fundamen authority reissue",
    "the-authority-cannot-be-made": "The authority {name} cannot be made",
    "that-is-no-distinguished-name": "that is no distinguished name: {error}",
    "write-it-as-for-example-cn": 'Write it as, for example, "CN=Marram CA,O=Marram".',
    "the-certificate-of-is-not-issued": "The certificate of {shown} is not issued again",
    "it-was-issued-by-not-by": "it was issued by {whole}, not by {other_whole}",
    "ask-the-authority-that-has-issued": "Ask the authority that has issued it.",
    "do-not-use-it-find-out": "Do not use it: find out who made it. Issue a new one from a request of its owner.",
    "the-authority-own-certificate-has-ended": "the authority's own certificate has ended",
    "renew-that-certificate-first-fundamen-authority": "Renew that certificate first: fundamen authority renew",
    "it-was-not-signed-with-the": "it was not signed with the authority's key, so it may be forged",
    "it-is-signed-with-so-it": "it is signed with {signature_hash}, so it may be forged",
    "it-is-one-of-an-authority": "it is one of an authority, and its issuer may not make any with as many below it",
    "its-issuer-may-not-speak-for": "its issuer may not speak for the name {name}",
    "the-authority-is-not-renewed": "The authority {shown} is not renewed",
    "the-key-is-not-its-own": "the key is not its own: what it has issued would not hold any more",
    "name-the-key-that-its-certificate": (
        "Name the key that its certificate is for; it lies where the authority was made."
    ),
    "it-ends-in-days": "it ends in {days} days",
    "it-is-no-authority-its-basic": "it is no authority's: its basic constraints do not say so",
    "its-key-may-not-sign-certificates": "its key may not sign certificates",
    "it-holds-only-from-on": "it holds only from {not_before:%Y-%m-%d} on",
    "it-has-ended": "it has ended",
    "its-own-signature-does-not-hold": "its own signature does not hold",
}
