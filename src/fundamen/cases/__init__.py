"""Describe a case for its next reader: symptom, attempts, results, and requests."""
