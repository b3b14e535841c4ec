"""Lay out what a program depends on: the program above, its components below it, level by level.

A component's level is the length of the shortest way to it. Within a level a component stands below what needs it,
those at fault first; a level that is too wide goes on in further rows.
"""

import msgspec

from fundamen.machine.machine import Machine
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Necessity
from fundamen.model.verdict import Verdict
from fundamen.report.page import shorten
from fundamen.trace.records import Component, Trace

WIDTH = 1160  # of the picture, in pixels
NODE_WIDTH, NODE_HEIGHT = 204, 46
_GAP, _ROW_GAP, _LEVEL_GAP, _MARGIN = 16, 12, 58, 20
_PER_ROW = (WIDTH - 2 * _MARGIN + _GAP) // (NODE_WIDTH + _GAP)
_NAME = 28  # characters of a name that fit
_MOST_NODES = 400
_MOST_WITH_ALL_EDGES = 40  # components; of more only the shortest way to each is drawn


class PictureNode(msgspec.Struct, frozen=True):
    """One box."""

    name: str  # shortened
    title: str  # in full, with the reason
    verdict: Verdict
    is_fault: bool
    detail: str  # its architecture
    x: float  # of its left edge
    y: float  # of its upper edge

    @property
    def top(self) -> tuple[float, float]:
        """The middle of its upper edge."""
        return self.x + NODE_WIDTH / 2, self.y

    @property
    def bottom(self) -> tuple[float, float]:
        """The middle of its lower edge."""
        return self.x + NODE_WIDTH / 2, self.y + NODE_HEIGHT


class Edge(msgspec.Struct, frozen=True):
    """One need."""

    start: int  # the number of the node that needs
    end: int  # of the one that is needed
    is_to_cause: bool  # whether it leads to a fault


class Picture(msgspec.Struct, frozen=True):
    """All boxes and needs, placed."""

    nodes: tuple[PictureNode, ...]  # the program first
    edges: tuple[Edge, ...]
    height: float
    left_out: int  # components that are not drawn


def lay_out(trace: Trace, machine: Machine) -> Picture:
    """Place all components of a trace."""
    drawn = [
        c for c in trace.components if c.kind != "symbol" and (c.path is not None or c.how is not Necessity.OPTIONAL)
    ]
    left_out = max(0, len(drawn) - _MOST_NODES)
    faults = [c for c in drawn if c.is_fault]
    drawn = [*drawn[: _MOST_NODES - len(faults)], *(f for f in faults if f not in drawn[: _MOST_NODES - len(faults)])]
    numbers = _numbers(drawn, machine)
    parents = [_parent(component, numbers, machine) for component in drawn]
    places, height = _places(drawn, parents)
    nodes = tuple(_node(component, machine, place) for component, place in zip(drawn, places, strict=True))
    return Picture(nodes, tuple(_edges(drawn, parents, places, numbers, machine)), height, left_out)


def _numbers(drawn: list[Component], machine: Machine) -> dict[str, int]:
    """The number of each component by the real path that it lies at."""
    numbers: dict[str, int] = {}
    for number, component in enumerate(drawn):
        if component.path is not None:
            numbers.setdefault(component.path, number)
            numbers.setdefault(machine.real(component.path), number)
    return numbers


def _parent(component: Component, numbers: dict[str, int], machine: Machine) -> int | None:
    """The file that needs a component, on the shortest way to it; None for the program."""
    if component.kind == "program" or not component.chain:
        return None
    last = component.chain[-1]
    return numbers.get(last, numbers.get(machine.real(last), 0))


def _places(drawn: list[Component], parents: list[int | None]) -> tuple[list[tuple[float, float]], float]:
    levels: dict[int, list[int]] = {}
    depth: dict[int, int] = {}
    for number, parent in enumerate(parents):  # a component stands behind what needs it in the loader's order
        depth[number] = 0 if parent is None or parent == number else depth.get(parent, 0) + 1
        levels.setdefault(depth[number], []).append(number)
    places: list[tuple[float, float]] = [(0.0, 0.0)] * len(drawn)
    y = float(_MARGIN)
    for level in sorted(levels):
        order = sorted(
            levels[level],
            key=lambda number: (places[parents[number] or 0][0], not drawn[number].is_fault, number),
        )
        rows = -(-len(order) // (_PER_ROW if len(order) <= _PER_ROW else _PER_ROW - 1))
        size = -(-len(order) // rows)
        for index, begin in enumerate(range(0, len(order), size)):
            row = order[begin : begin + size]
            left = (WIDTH - len(row) * NODE_WIDTH - (len(row) - 1) * _GAP) / 2
            if rows > 1:  # rows of one level stand in the gaps of each other, so that lines pass between the boxes
                left = (WIDTH - size * (NODE_WIDTH + _GAP)) / 2 + (-1) ** index * (NODE_WIDTH + _GAP) / 4
            for at, number in enumerate(row):
                places[number] = (left + at * (NODE_WIDTH + _GAP), y)
            y += NODE_HEIGHT + _ROW_GAP
        y += _LEVEL_GAP - _ROW_GAP
    return places, y - _LEVEL_GAP + _MARGIN


def _node(component: Component, machine: Machine, place: tuple[float, float]) -> PictureNode:
    name = component.name.partition(",")[0] if "assembly" in component.kind else machine.paths.basename(component.name)
    architecture = str(architecture_of(component))
    title = f"{component.name}: {component.verdict}: {component.reason}"
    return PictureNode(shorten(name, _NAME), title, component.verdict, component.is_fault, architecture, *place)


def architecture_of(component: Component) -> Architecture:
    """For what a component is: what lies there, be it of the wrong one, or else what is wanted."""
    seen = (candidate.architecture for candidate in component.searched if candidate.architecture is not None)
    if component.verdict is Verdict.WRONG_ARCHITECTURE and component.architecture is None:
        return next(seen, component.wanted_architecture)
    return component.architecture or component.wanted_architecture


def _edges(
    drawn: list[Component],
    parents: list[int | None],
    places: list[tuple[float, float]],
    numbers: dict[str, int],
    machine: Machine,
) -> list[Edge]:
    leading = _leading_to_faults(drawn, parents)
    edges: dict[tuple[int, int], Edge] = {}
    for number, component in enumerate(drawn):
        parent = parents[number]
        if parent is not None and parent != number:
            edges[parent, number] = Edge(parent, number, number in leading)
        if len(drawn) <= _MOST_WITH_ALL_EDGES:
            for path in component.needed_by:
                other = numbers.get(path, numbers.get(machine.real(path)))
                if other is not None and places[other][1] < places[number][1]:  # the others lead back up
                    edges.setdefault((other, number), Edge(other, number, is_to_cause=False))
    return sorted(edges.values(), key=lambda edge: edge.is_to_cause)


def _leading_to_faults(drawn: list[Component], parents: list[int | None]) -> set[int]:
    """The components on a shortest way from the program to a fault."""
    leading: set[int] = set()
    for number, component in enumerate(drawn):
        at: int | None = number if component.is_fault else None
        while at is not None and at not in leading:
            leading.add(at)
            at = parents[at]
    return leading
