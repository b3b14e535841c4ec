"""Sentences and clauses of ``model``, by their codes."""

TEXTS = {
    "cannot-be-examined": "{subject} cannot be examined",
    "see-that-it-is-there-and": "See that it is there and that you may read it.",
    "could-not-be-examined": "{subject} could not be examined",
    "fundamen-has-a-bug": "Fundamen has a bug: {error_class}: {error}",
    "send-in-the-bug-file-that": "Send in the bug file that standard error names.",
    "by": "{title}, by {publisher}",
    "language": ", language {language}",
    "for": "{name} for {words}{processor}{language}",
}
