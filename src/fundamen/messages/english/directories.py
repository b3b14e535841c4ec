"""Sentences and clauses of ``directories``, by their codes."""

TEXTS = {
    "the-entry-cannot-be-read": "The entry {entry} cannot be read",
    "the-entry-cannot-be-changed": "The entry {entry} cannot be changed",
    "says": "{title} says: {description}{message}",
    "ask-the-directory-administrator-for-the": (
        "Ask the directory's administrator for the right to it, or log in as a user who has it."
    ),
    "the-directory-cannot-be-asked": "The directory cannot be asked",
    "it-needs-a-library-for-directories": "it needs a library for directories",
    "install-it-pip-install-fundamen-directories": "Install it: pip install 'fundamen[directories]'",
    "no-password-is-sent-to": "No password is sent to {title}",
    "the-connection-is-not-encrypted": "the connection is not encrypted",
    "ask-it-over-tls-tls": "Ask it over TLS: --tls",
    "no-anonymous-login": "no anonymous login",
    "the-directory-cannot-be-asked-title": "The directory {title} cannot be asked",
    "it-does-not-let-in": "it does not let {who} in: {description}",
    "log-in-with-login-name-see": (
        "Log in with --login NAME; see that the name is written in full, and the password is right."
    ),
    "it-does-not-answer-as-a": "it does not answer as a directory: {error}",
    "see-that-it-runs-and-that": "See that it runs, and that this host reaches it.",
    "it-names-no-host-it-has": "it names no host: it has no {attribute}",
    "at-port": " at port {port}",
    "its-host-has-an-address": "its host {host} has an address",
    "its-host-does-not-answer": "its host {host} does not answer{where}: {why}",
    "its-host-answers": "its host {host} answers{where}",
}
