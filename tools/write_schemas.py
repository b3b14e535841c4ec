"""Write the JSON Schema of every contract to docs/schemas/; with --check only compare."""

import sys
from inspect import cleandoc
from pathlib import Path
from typing import Any

import msgspec

from fundamen.formats.capture_file import CaptureManifest
from fundamen.messages import Message
from fundamen.prerequisites.sheet import SheetFile
from fundamen.report.contracts.authority import AuthorityRecord
from fundamen.report.contracts.building import BuildRecord
from fundamen.report.contracts.casing import CaseRecord, HandoffRecord, LadderRecord, MergeRecord
from fundamen.report.contracts.cold_copying import ColdCopiesRecord
from fundamen.report.contracts.comparing import ComparisonRecord, ReferencesRecord
from fundamen.report.contracts.inspecting import InspectRecord
from fundamen.report.contracts.installing import InstallerRecord, OutcomeRecord, UnpackedRecord
from fundamen.report.contracts.line import ErrorRecord
from fundamen.report.contracts.locking import LockRecord
from fundamen.report.contracts.machines import CaptureRecord, CompareRecord, FleetRecord
from fundamen.report.contracts.reading import CalledRecord, CluesRecord
from fundamen.report.contracts.requiring import PrereqsRecord
from fundamen.report.contracts.restoring import HistoryRecord, PlanRecord, RestoreRecord, ResumeRecord, UndoRecord
from fundamen.report.contracts.sourcing import CopiesRecord, OffersRecord, PublicationRecord, SourcesRecord
from fundamen.report.contracts.surveying import SurveyRecord
from fundamen.report.contracts.tooling import ToolchainRecord
from fundamen.report.contracts.tracing import TraceRecord
from fundamen.report.contracts.trust import RootsRecord
from fundamen.toolchains.catalogue import Toolchain

FOLDER = Path(__file__).parent.parent / "docs" / "schemas"
RECORDS = {
    "authority": AuthorityRecord,
    "build": BuildRecord,
    "capture": CaptureManifest,
    "captured": CaptureRecord,
    "case": CaseRecord,
    "clues": CluesRecord,
    "clues-line": CalledRecord,
    "cold-copies": ColdCopiesRecord,
    "compare": CompareRecord,
    "comparison": ComparisonRecord,
    "copies": CopiesRecord,
    "error": ErrorRecord,
    "fleet": FleetRecord,
    "handoff": HandoffRecord,
    "history": HistoryRecord,
    "ladder": LadderRecord,
    "inspect": InspectRecord,
    "installer": InstallerRecord,
    "installer-outcome": OutcomeRecord,
    "lock": LockRecord,
    "merge": MergeRecord,
    "offers": OffersRecord,
    "plan-shown": PlanRecord,
    "prereqs": PrereqsRecord,
    "publication": PublicationRecord,
    "references": ReferencesRecord,
    "restore": RestoreRecord,
    "roots": RootsRecord,
    "sheet": SheetFile,
    "sources": SourcesRecord,
    "survey": SurveyRecord,
    "toolchain": Toolchain,
    "toolchain-check": ToolchainRecord,
    "trace": TraceRecord,
    "resume": ResumeRecord,
    "unpacked": UnpackedRecord,
    "undo": UndoRecord,
}


def schema_of_message(kind: type) -> dict[str, Any]:
    """The schema of a message: the hook of ``msgspec`` for types that are not its own."""
    if kind is not Message:
        raise NotImplementedError(kind.__name__)
    text = {"type": "string"}
    return {"type": "object", "properties": {"code": text, "text": text}, "required": ["code", "text"]}


def main() -> None:
    """Write or compare all schemas."""
    FOLDER.mkdir(parents=True, exist_ok=True)
    for name, record in RECORDS.items():
        own = with_plain_descriptions(msgspec.json.schema(record, schema_hook=schema_of_message))
        schema = msgspec.json.format(msgspec.json.encode(own, order="deterministic"), indent=2)
        path = FOLDER / f"{name}.json"
        if "--check" not in sys.argv:
            path.write_bytes(schema + b"\n")
        elif not path.exists() or path.read_bytes() != schema + b"\n":
            sys.exit(f"{path} is not the types' own: run make schemas")


def with_plain_descriptions(schema: Any) -> Any:  # noqa: ANN401 - whatever JSON may hold
    """A schema whose descriptions are not indented as they are in the code: versions of msgspec differ in that."""
    if isinstance(schema, dict):
        return {
            key: cleandoc(value) if key == "description" and isinstance(value, str) else with_plain_descriptions(value)
            for key, value in schema.items()
        }
    return [with_plain_descriptions(each) for each in schema] if isinstance(schema, list | tuple) else schema


if __name__ == "__main__":
    main()
