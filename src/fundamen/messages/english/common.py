"""Sentences and clauses of ``common``, by their codes."""

TEXTS = {
    "said-of": "{subject}: {said}",
    "both": "{first}; {second}",
    "of-a-place": "{place} {said}",
}
