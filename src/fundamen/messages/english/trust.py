"""Sentences and clauses of ``trust``, by their codes."""

TEXTS = {
    "a-revocation-list": "A revocation list",
    "a-nameless-certificate": "a nameless certificate",
    "the-system-list-of-roots": "the system's list of roots",
    "says-that-nothing-with-this-certificate": "{where} says that nothing with this certificate may be trusted",
    "it-has-signed-another-certificate-and": "it has signed another certificate, and is not one of an authority",
    "its-key-usage-does-not-let": "its key usage does not let it sign certificates",
    "authorities-are-below-it-and-it": "{between} authorities are below it, and it allows {allowed}",
    "it-has-critical-extensions-that-are": "it has critical extensions that are not known here: {extensions}",
    "trusts-it-but-not-for": "{where} trusts it, but not for {words}",
    "its-key-usage-does-not-let-it": "its key usage does not let it sign anything but certificates or lists",
    "it-may-not-be-used-for": "it may not be used for {words}",
    "its-name-constraints-cannot-be-read": "its name constraints cannot be read: {error}",
    "it-may-not-speak-for-the": "it may not speak for the name {name}",
    "its-key-can-be-broken": "its key, {key}, can be broken",
    "it-is-signed-with-which-can": "it is signed with {signature_hash}, which can be forged",
    "it-is-signed-with-sha-1": "it is signed with SHA-1, which is not accepted since {sha1_ends:%Y}",
    "the-root": "the root {shown}",
    "is-only-in-and-not-among": "{name} is only in {where}, and not among those of the machine",
    "is-not-trusted-by-this-machine": "{name} is not trusted by this machine",
    "it-was-not-signed-with-the": "it was not signed with the key of {shown}",
    "the-certificate-of-the-is-missing": "the certificate of the {what} {shown} is missing",
    "it-is-valid-only-from-on": "it is valid only from {not_before:%Y-%m-%d} on",
    "it-expired-on": "it expired on {not_after:%Y-%m-%d}",
    "the-fingerprint-cannot-be-used": "The fingerprint cannot be used",
    "a-sha-256-fingerprint-has-64": "a SHA-256 fingerprint has 64 hexadecimal digits, and this has {count} characters",
    "ask-for-it-to-be-read": "Ask for it to be read out again, all 16 groups of four.",
    "the-publisher-signature": "The publisher's signature",
    "it-holds-signers-of-content-not": "it holds {count} signers of content {content_type}, not one of a file's digest",
    "the-signed-digest": "The signed digest",
    "the-signature-cannot-be-read": "the signature cannot be read: {why}",
    "the-digest-is-which-can-be": "the digest is {digest_algorithm}, which can be forged",
    "the-file-bytes-are-not-those": "the file's bytes are not those that were signed",
    "its-timestamp-does-not-count": "{reason}; its timestamp does not count: {problem}",
    "its-digest-algorithm-is-not-known": "its digest algorithm {digest_algorithm} is not known here",
    "the-signature-says-that-it-is": "the signature says that it is over content of another kind",
    "the-signature-was-made-over-other": "the signature was made over other content",
    "it-was-not-made-with-the": "it was not made with the key of {shown}",
    "it-is-not-signed-as-a": "it is not signed as a timestamp is",
    "it-was-made-for-another-signature": "it was made for another signature",
    "the-certificate-of-its-time-stamping": "the certificate of its time-stamping service is missing",
    "it-is-offered-at": "; it is offered at {at}",
    "its-issuer-revoked-it-on": "its issuer revoked it on {since:%Y-%m-%d}{more}",
    "bytes-beside-the-signature-are-covered": (
        "{hidden} bytes beside the signature are covered by nothing, and anybody may have put them there"
    ),
    "it-cannot-be-read": "it cannot be read: {why}",
    "this-machine-clock-is-wrong-it": (
        "this machine's clock is wrong: it says {now:%Y-%m-%d}, and a timestamp service saw this signature on "
        "{at:%Y-%m-%d}"
    ),
    "the-signer-certificate-is-not-in": "the signer's certificate is not in the signature",
    "have-the-fingerprint-read-out": (
        "Have the SHA-256 fingerprint of {name} read out by its owner over a second way; if it is the same, import "
        "it into the machine's store."
    ),
    "get-the-certificate-of-the-issuer": "Get the certificate of {issuer} from its owner{offered}.",
    "see-whether-the-clock-is-right": "See whether this machine's clock is right: the chain was judged for {at}.",
    "get-an-edition-with-a-certificate-in-force": (
        "Get an edition that is signed with a certificate in force, or with a timestamp."
    ),
    "get-the-new-certificate": "Get the new certificate of {name}, and see whether this machine's clock is right.",
    "do-not-use-what-is-signed-with-it": "Do not use what is signed with it. Ask its publisher for another edition.",
    "ask-for-an-edition-with-a-stronger-algorithm": (
        "Ask its publisher for an edition that is signed with a stronger algorithm."
    ),
    "nothing-on-this-machine-repairs-it": "Nothing on this machine repairs it: ask the administrator of {issuer}.",
    "its-key-was-compromised": "its key was compromised",
    "its-issuer-was-compromised": "its issuer was compromised",
    "its-owner-has-changed": "its owner has changed",
    "it-was-superseded": "it was superseded",
    "it-is-no-longer-in-use": "it is no longer in use",
}
