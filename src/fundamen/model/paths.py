"""Paths of two kinds that the type checker keeps apart."""

from typing import NewType

MachinePath = NewType("MachinePath", str)
"""A path as the examined machine spells it; bytes that are not UTF-8 are kept as surrogate escapes (PEP 383)."""

HostPath = NewType("HostPath", str)
"""A path that this process may open."""
