"""Texts are in plain words, docstrings say what a thing is, and a name stands for one thing."""

import ast
import io
import re
import tokenize
import tomllib
from collections import defaultdict
from collections.abc import Iterable, Iterator

from syntax import SOURCE, SYNTAX, module_nodes, parsed_modules

pytestmark = SYNTAX

# What readers stumbled over: riddles, inverted orders, and words of ours where the field has its own.
ODD = re.compile(
    r"\b(stands? (?:on|there|in its place)|at hand|anew|by now|whoever|lets nobody|com(?:e|es) to lack|told"
    r"|(?:go|goes|going|gone) on with|t[ao]k(?:e|en|es|ing) back|put(?:s|ting)? (?:it |them |this )?right|carries out"
    r"|(?:other|this|both) width"
    r"|not named|in none of the (?:places|folders) where|cut off|nobody|somebody|gives? up|given up)\b",
    re.IGNORECASE,
)
HOLE = re.compile(r"\{\w+[^}]*\}")  # of a message: the names of its values are no text
# Names that say how something came about, and not what it is.
RIDDLE = re.compile(r"_*(?:\w+_)?(?:told|led|came|footing|nobody|somebody|whoever|anew)(?:_\w+)?", re.IGNORECASE)
# A function does something or gives something; a lone participle says neither. These are verbs or nouns as well.
PARTICIPLE = re.compile(
    r"_*(?:\w+ed|\w+en|\w+ing|found|held|kept|known|left|lost|made|meant|said|seen|shown|told|thought)"
)
ALSO_VERBS = {
    "bring",
    "children",
    "feed",
    "heading",
    "heed",
    "need",
    "open",
    "shorten",
    "string",
    "thing",
    "token",
    "when",
}
STATES = {"taken back"}  # of the journal: its format keeps the word


def documented(nodes: Iterable[ast.AST]) -> Iterator[tuple[ast.AST, ast.Constant]]:
    """Each thing that has a docstring, with it."""
    for node in nodes:
        if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef) and node.body:
            first = node.body[0]
            if (
                isinstance(first, ast.Expr)
                and isinstance(first.value, ast.Constant)
                and isinstance(first.value.value, str)
            ):
                yield node, first.value


def texts() -> Iterator[tuple[str, str]]:
    """(where, text) of all that users may read: strings of more than one word, and what the knowledge says."""
    for path, nodes in module_nodes().items():
        documentation = {id(constant) for _, constant in documented(nodes)}
        strings = (each for each in nodes if isinstance(each, ast.Constant) and id(each) not in documentation)
        for node in strings:
            if isinstance(node.value, str) and " " in node.value.strip() and node.value not in STATES:
                yield f"{path}:{node.lineno}", HOLE.sub("{}", node.value)
    for file in sorted(SOURCE.rglob("*.toml")):
        tables = [
            each for found in tomllib.loads(file.read_text()).values() if isinstance(found, list) for each in found
        ]
        for table in (each for each in tables if isinstance(each, dict)):
            likely = [each["cause"] if isinstance(each, dict) else each for each in table.get("likely", ())]
            for text in (*(table.get(key, "") for key in ("means", "do", "proves", "because", "title")), *likely):
                yield f"{file.name}: {table.get('id', table.get('name'))}", text


def documents() -> Iterator[tuple[str, str]]:
    """(where, line) of the documentation, the commands' help in it."""
    root = SOURCE.parents[1]
    for file in [
        *root.glob("*.md"),
        *root.glob("docs/*.md"),
        *root.glob("docs/formats/*.md"),
        *root.glob("docs/reference/*.md"),
    ]:
        if file.name not in {"CHANGELOG.md", "codes.md"}:  # what happened; and what the catalogue has already
            for number, line in enumerate(file.read_text().splitlines(), 1):
                yield f"{file.name}:{number}", re.sub("`(?:told|taken back)`", "", line)


def test_no_text_for_users_has_one_of_our_own_odd_words() -> None:
    found = {where: ODD.findall(text) for where, text in (*texts(), *documents()) if ODD.search(text)}
    assert found == {}


def comments_and_docstrings() -> Iterator[tuple[str, str]]:
    """(where, line) of all that explains the code."""
    for path, nodes in module_nodes().items():
        content = (SOURCE / path).read_text()
        lines_of_docstrings = {constant.lineno for _, constant in documented(nodes)}
        for token in tokenize.generate_tokens(io.StringIO(content).readline):
            is_docstring = token.type == tokenize.STRING and token.start[0] in lines_of_docstrings
            if is_docstring or token.type == tokenize.COMMENT:
                for number, line in enumerate(token.string.splitlines(), token.start[0]):
                    yield f"{path}:{number}", line


def test_no_comment_or_docstring_has_one_of_our_own_odd_words() -> None:
    found = {where: ODD.findall(line) for where, line in comments_and_docstrings() if ODD.search(line)}
    assert found == {}


def test_no_name_in_the_code_is_one_of_our_own_riddles() -> None:
    found = [
        f"{path}: {name}"
        for path, nodes in module_nodes().items()
        for node in nodes
        for name in (getattr(node, field, None) for field in ("id", "arg", "attr", "name"))
        if isinstance(name, str) and RIDDLE.fullmatch(name)
    ]
    assert found == []


def test_no_docstring_begins_as_a_riddle() -> None:
    riddles = [
        f"{path}: {str(constant.value).strip().splitlines()[0]}"
        for path, nodes in module_nodes().items()
        for _, constant in documented(nodes)
        if re.match(r"\s*(What|Whatever|Whoever|As of)\b", str(constant.value))
    ]
    assert riddles == []


def test_each_public_class_has_a_name_of_its_own() -> None:
    homes: dict[str, list[str]] = defaultdict(list)
    for path, tree in parsed_modules().items():
        for node in tree.body:
            if isinstance(node, ast.ClassDef) and not node.name.startswith("_"):
                homes[node.name].append(path)
    assert {name: where for name, where in homes.items() if len(where) > 1} == {}


def test_no_function_has_a_lone_participle_for_a_name() -> None:
    found = [
        f"{path}: {node.name}"
        for path, nodes in module_nodes().items()
        for node in nodes
        if isinstance(node, ast.FunctionDef)
        and "_" not in node.name.strip("_")
        and PARTICIPLE.fullmatch(node.name)
        and node.name.strip("_") not in ALSO_VERBS
        and not any("property" in ast.unparse(each) for each in node.decorator_list)
    ]
    assert found == []
