"""Results of examinations as text."""
