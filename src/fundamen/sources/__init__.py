"""Trusted sources: the catalogue, and offers for a need."""
