"""Sentences and clauses of ``clues``, by their codes."""

TEXTS = {
    "is-a-link-to-which-is-gone": "{path} is a link to {target}, which is not there.",
    "a-setting-of-pam-is-gone": "{path} is gone: the settings of {program} for PAM include it.",
    "rights-keep-from-it": "Rights keep the user from {path}: {reason}.",
    "has-all-the-files-that-it-needs": "{program} has all the files that it needs; the message is about its rights.",
    "not-verified": "not verified",
    "it-complains-in-words-that-are": "It complains in words that are not known here.",
    "usual-where-says-so": "usual where {source} says so",
    "is-nowhere-on-the-machine": "{absent} is nowhere on the machine",
    "is-there": "{path} is there",
    "check-the-likely-cause-first": "Check the likely cause first: {cause}.",
    "read-line-and-the-lines-around": "Read line {line} and the lines around it: no command can find out more.",
    "ask-for-the-lines-before-and": "Ask for the lines before and after this one: no command can find out more.",
    "more-of-its-files-gone": " {count} more {verb} at fault.",
    "is-empty-the-installed-package-brought": (
        "{path} is empty. The installed package {package} brought it with content.{more}"
    ),
    "is-gone-the-installed-package-brought": "{path} is gone. The installed package {package} brought it.{more}",
    "is-altered-the-installed-package-brought": (
        "{path} does not have the bytes that its package {package} recorded.{more}"
    ),
    "the-text-names-no-file-at-fault": (
        "{path} is gone from this machine, which the text does not name. The installed package {package} brought it."
        "{more}"
    ),
    "is-trusted-on-this-machine-now": (
        "{name} is trusted on this machine now, or carries no signature that could be judged."
    ),
    "is-not-accepted": "{name} is not accepted: {reason}.",
    "right-by": "right by {speaker}",
    "traced-now-has-all-that-it": (
        "Traced now, {program} has all that it needs to start: the message tells of an earlier state, or of "
        "another machine."
    ),
    "below": "{count_words} below {program} ({names})",
    "more-of-its-dependencies-at-fault": " {count} more of its dependencies {verb} at fault as well.",
    "which-it-needs": "which it needs",
    "the-message-names-the-reason-is": "The message names {named}; the reason is {name}, {where}: {reason}.{more}",
    "is-at-fault-as-the-message": "{name}{more} is at fault, as the message says: {reason}.{other_more}",
    "the-one-at-is-right": "the one at {path} is verified",
    "of-them-right": "{count} of them verified",
    "places": "{count} places",
    "is-on-this-machine-in-the": (
        "{name} is on this machine, in {there}; {where}. The program does not look there, or is for another one."
    ),
    "level": "{word} level{more}",
    "it-cannot-be-unpacked": "it cannot be unpacked: {error}",
    "it-holds-more-than-gib": "it holds more than {most_unpacked} GiB",
    "the-log-cannot-be-read": "The log {path} cannot be read",
    "check-its-spelling-and-its-rights": "Check its spelling and its rights, or pipe the text into: fundamen clues -",
    "has-load-which-does-not-define": (
        "{program} has {other_program} load {path}, which does not define {name}; {other_path} does."
    ),
    "defines-and-loads-it-here-where": (
        "{path} defines {name}, and {program} loads it here: where it fails, a variable such as LD_LIBRARY_PATH "
        "leads to another copy of {other_name}."
    ),
    "no-library-that-loads-defines": "No library that {program} loads defines {name}.",
    "nor-for-more": ", nor for {count} more",
    "no-library-that-loads-defines-no": (
        "No library that {program} loads defines {name}. No package vouches for {path}{more}: it may be of another "
        "version than the program was built with."
    ),
    "is-no-text": "{name} is no text",
    "its-first-bytes-are-those-of": "its first bytes are those of a program, an image or packed data",
    "if-it-is-packed-unpack-it": "If it is packed, unpack it. A program or library: fundamen inspect {name}",
    "the-one-at-is-for": "the one at {path} is for {architecture}",
    "one-lies-at": "one lies at {path}",
    "the-list-to-preload-is-at-fault": (
        "{path}, the list of libraries that are loaded into every program, is at fault: {reason}."
    ),
    "is-at-fault": "{name}{more} is at fault: {reason}.{other_more}",
    "is-built-for-another-python": (
        "{path} is built for Python {built}, and the Python that seeks it is {runs}: get the build for {runs}."
    ),
}
