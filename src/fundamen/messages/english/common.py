"""Sentences and clauses of ``common``, by their codes."""

TEXTS = {
    "names": "{names}",
    "names-and-more": "{names}, and {count} more",
    "said-of": "{subject}: {said}",
    "both": "{first}; {second}",
    "of-a-place": "{place} {said}",
    "status": "{status}",
}
