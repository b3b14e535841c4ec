"""The syntax trees of the codebase, each parsed once: what asks for them belongs to the group SYNTAX."""

import ast
from collections.abc import Mapping
from functools import cache
from pathlib import Path

import pytest

SOURCE = Path(__file__).parent.parent / "src" / "fundamen"
SYNTAX = pytest.mark.xdist_group("syntax")


@cache
def parsed_modules() -> Mapping[str, ast.Module]:
    """Every module by its path from the folder of the package on."""
    return {str(path.relative_to(SOURCE)): ast.parse(path.read_bytes()) for path in sorted(SOURCE.rglob("*.py"))}


@cache
def module_nodes() -> Mapping[str, list[ast.AST]]:
    """All that the syntax tree of each module holds."""
    return {path: nodes_of(tree) for path, tree in parsed_modules().items()}


def nodes_of(tree: ast.AST) -> list[ast.AST]:
    """All that a syntax tree holds, as ``ast.walk`` gives it in twice the time."""
    nodes = [tree]
    for node in nodes:  # it grows
        for value in node.__dict__.values():
            if isinstance(value, list):
                nodes += (each for each in value if isinstance(each, ast.AST))
            elif isinstance(value, ast.AST):
                nodes.append(value)
    return nodes
