"""Repairs, sources and cases as text."""
