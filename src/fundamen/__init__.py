"""Find the missing or broken dependencies of a failing program, and repair it from trusted sources.

The names below are the public interface; everything else may change. They are loaded when first used, so that
importing the package costs nothing.
"""

from importlib import import_module
from typing import TYPE_CHECKING

__version__ = "0.2.0"

if TYPE_CHECKING:
    from fundamen.api.session import (
        CluesResult,
        RehearsalResult,
        RepairResult,
        Session,
        SurveyResult,
        TraceResult,
        UndoResult,
    )
    from fundamen.evidence.authority import Authority
    from fundamen.evidence.catalogue import CatalogueAuthority
    from fundamen.evidence.dpkg import DpkgAuthority
    from fundamen.formats.binary import read_binary
    from fundamen.machine.machine import Machine
    from fundamen.machine.opening import open_machine
    from fundamen.model.binary import Binary
    from fundamen.model.errors import FundamenError
    from fundamen.model.verdict import Verdict
    from fundamen.trace.records import Component, Trace
    from fundamen.trace.trace import trace_program

_HOMES = {
    "Authority": "fundamen.evidence.authority",
    "Binary": "fundamen.model.binary",
    "CatalogueAuthority": "fundamen.evidence.catalogue",
    "CluesResult": "fundamen.api.session",
    "Component": "fundamen.trace.records",
    "DpkgAuthority": "fundamen.evidence.dpkg",
    "FundamenError": "fundamen.model.errors",
    "Machine": "fundamen.machine.machine",
    "RehearsalResult": "fundamen.api.session",
    "RepairResult": "fundamen.api.session",
    "Session": "fundamen.api.session",
    "SurveyResult": "fundamen.api.session",
    "Trace": "fundamen.trace.records",
    "TraceResult": "fundamen.api.session",
    "UndoResult": "fundamen.api.session",
    "Verdict": "fundamen.model.verdict",
    "open_machine": "fundamen.machine.opening",
    "read_binary": "fundamen.formats.binary",
    "trace_program": "fundamen.trace.trace",
}

__all__ = [
    "Authority",
    "Binary",
    "CatalogueAuthority",
    "CluesResult",
    "Component",
    "DpkgAuthority",
    "FundamenError",
    "Machine",
    "RehearsalResult",
    "RepairResult",
    "Session",
    "SurveyResult",
    "Trace",
    "TraceResult",
    "UndoResult",
    "Verdict",
    "__version__",
    "open_machine",
    "read_binary",
    "trace_program",
]


def __getattr__(name: str) -> object:
    if name in _HOMES:
        return getattr(import_module(_HOMES[name]), name)
    raise AttributeError(f"module {__name__!r} has no attribute {name!r}")


def __dir__() -> list[str]:
    return sorted(__all__)
