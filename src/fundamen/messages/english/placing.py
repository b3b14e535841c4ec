"""Sentences and clauses of ``placing``, by their codes."""

TEXTS = {
    "it-is-not-an-ordinary-file": "it is not an ordinary file",
    "its-extended-attributes-cannot-be-kept": "its extended attributes cannot be kept: {strerror}",
    "it-belongs-to-another-account": "it belongs to another account",
    "chown-r": "chown -R {uid} {name}",
    "other-accounts-may-write-to-it": "other accounts may write to it",
    "chmod-go-w": "chmod go-w {name}",
    "fundamen-own-folder-is-not-used": "Fundamen's own folder {folder} is not used",
    "and-could-have-fundamen-put-what": "{why}, and could have Fundamen put what they like in place",
    "check-its-contents-then-run-or": "Check its contents, then run: {do}; or set FUNDAMEN_HOME to another folder.",
    "what-was-read-back-has-the": "what was read back has the SHA-256 {found}..., not {sha256}...",
}
