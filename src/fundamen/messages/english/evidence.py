"""Sentences and clauses of ``evidence``, by their codes."""

TEXTS = {
    "package-and-version": "{name} {version}",
    "versions-are-mixed-most-of-its": (
        "{title}; versions are mixed: most of its files beside it are from {most_are_from}"
    ),
    "was-withdrawn-from": "{title} was withdrawn from {speaker}: {withdrawn}",
    "lies-among-verified-files-of-but": "lies among verified files of {name} {version}, but has other bytes (SHA-256)",
    "has-other-bytes-than-in-perhaps": "has other bytes than in {versions}; perhaps another version",
    "bytes-to-of-its-code-for": "bytes {begin} to {end} of its code for {architecture} are not those that were signed",
    "it-is-not-written-as-a": "it is not written as a relationship is",
    "is-not-installed": "{name} is not installed",
    "provided-by-another-package": "provided by another package",
    "package": "package {title}",
    "differs-from-package-md5-not": "differs from package {title} (MD5 {found}..., not {expected}...)",
    "is-damaged-line-is-none-that": "{status} is damaged: line {line} is none that it may have",
    "is-damaged-it-tells-of-packages": (
        "{status} is damaged: it tells of {count} packages, and {lists} have lists of files"
    ),
    "listed-in": ", listed in {listed_in}",
    "signed-by": "signed by {name}{through}",
    "an-unknown-signer": "an unknown signer",
    "signed-by-whom-this-machine-does": "signed by {name}, whom this machine does not trust{through}",
    "differs-from-package": "differs from package {package} ({wrong})",
}
