"""A trace as a file for other tools: Graphviz DOT, and a bill of materials."""

import contextlib
import uuid
from datetime import datetime
from typing import Any

import msgspec

from fundamen import __version__
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.display import printable, shown_json
from fundamen.model.encoding import encode_json
from fundamen.model.errors import UnreadableError
from fundamen.report.drawing.picture import Picture, architecture_of, lay_out
from fundamen.trace.records import Component, Trace

_TYPES = {"framework": "framework", "runtime": "framework", "program": "application"}


def trace_dot(trace: Trace, machine: Machine) -> str:
    """The graph of needs. Source: Graphviz, "The DOT Language"."""
    picture: Picture = lay_out(trace, machine)
    lines = ["digraph stands_on {", "  rankdir=TB; node [shape=box, fontname=Helvetica];"]
    for number, node in enumerate(picture.nodes):
        style = "dashed" if node.verdict == "missing" else "bold" if node.is_fault else "solid"
        label = _quote(f"{node.name}\n{node.verdict} {node.detail}")
        lines.append(f"  n{number} [label={label}, tooltip={_quote(node.title)}, style={style}];")
    lines += [
        f"  n{edge.start} -> n{edge.end}{' [penwidth=2.5]' if edge.is_to_cause else ''};"
        for edge in sorted(picture.edges, key=lambda each: (each.start, each.end))
    ]
    return "\n".join([*lines, "}"]) + "\n"


def trace_bom(trace: Trace, machine: Machine, now: datetime) -> bytes:
    """A bill of materials. Source: ECMA-424, CycloneDX 1.6, JSON."""
    components = [c for c in trace.components if c.kind != "symbol" and c.path is not None]
    references = {component.path: f"c{number}" for number, component in enumerate(components)}
    program, *others = [_part(machine, component, references) for component in components]
    needs: dict[str, list[str]] = {reference: [] for reference in references.values()}
    for component in components:
        for path in component.needed_by:
            if path in references:
                needs[references[path]].append(references[component.path])
    document = {
        "bomFormat": "CycloneDX",
        "specVersion": "1.6",
        "serialNumber": f"urn:uuid:{uuid.uuid4()}",
        "version": 1,
        "metadata": {
            "timestamp": now.strftime("%Y-%m-%dT%H:%M:%SZ"),
            "tools": {"components": [{"type": "application", "name": "fundamen", "version": __version__}]},
            "component": program,
        },
        "components": others,
        "dependencies": [{"ref": ref, "dependsOn": sorted(set(on))} for ref, on in needs.items()],
    }
    return shown_json(msgspec.json.format(encode_json(document), indent=2).decode()).encode() + b"\n"


def _part(machine: Machine, component: Component, references: dict[Any, str]) -> dict[str, Any]:
    part: dict[str, Any] = {
        "type": _TYPES.get(component.kind, "library"),
        "bom-ref": references[component.path],
        "name": printable(machine.paths.basename(component.name)),
        "properties": [
            {"name": "fundamen:path", "value": printable(component.path or "")},
            {"name": "fundamen:architecture", "value": str(architecture_of(component))},
            {"name": "fundamen:verdict", "value": str(component.verdict)},
        ],
    }
    if component.version:
        part["version"] = printable(component.version)
    if component.path is not None and machine.look(component.path).kind is EntryKind.FILE:
        with contextlib.suppress(UnreadableError):  # what cannot be read has no digest; its verdict says so
            part["hashes"] = [{"alg": "SHA-256", "content": machine.digest(component.path, "sha256")}]
    return part


def _quote(text: str) -> str:
    lines = [printable(line).replace("\\", "\\\\").replace('"', '\\"') for line in text.split("\n")]
    return '"' + "\\n".join(lines) + '"'
