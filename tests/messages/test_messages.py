"""Each message is said somewhere, has the values that its text asks for, and reads well with short and long ones."""

import ast
import pickle
import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from string import Formatter

import pytest

from fundamen.messages import Message, as_said, say
from fundamen.model.encoding import encode_json
from syntax import SOURCE, SYNTAX, module_nodes, nodes_of

TESTS = Path(__file__).parents[1]
ENGLISH = SOURCE / "messages" / "english"
PACKAGES = sorted(file.stem for file in ENGLISH.glob("*.py") if file.stem != "__init__")
MOST_WORDS = 20  # of a sentence
_FEW = 2  # words, which any two texts may share
_STATES = {"must be started again", "started with the system"}  # values of fields that are documented as they are
_COMMAND = re.compile(r"\s*(?:fundamen|chroot|apt-get|apt|dpkg) ")  # a command is not a sentence
LONG = "/opt/marram/tidebook/lib/a-folder-with-a-long-name/libsaltgrass-runtime.so.4.2.1"


def texts(package: str) -> Mapping[str, str]:
    """The texts of one package by their codes."""
    module = ast.parse((ENGLISH / f"{package}.py").read_text())
    table = next(node.value for node in module.body if isinstance(node, ast.Assign))
    return {f"{package}.{name}": text for name, text in ast.literal_eval(table).items()}


CATALOGUE = {code: text for package in PACKAGES for code, text in texts(package).items()}


def holes(text: str) -> dict[str, str]:
    """The holes of a text, with what formats them."""
    return {name: form or "" for _, name, form, _ in Formatter().parse(text) if name is not None}


def said() -> Iterator[tuple[str, str, set[str]]]:
    """(where, code, names of the values) of every message that is said; a computed code by its beginning."""
    for path, nodes in module_nodes().items():
        for node in nodes:
            if isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id == "say":
                names = {str(keyword.arg) for keyword in node.keywords}
                for code in codes_of(node.args[0]):
                    yield f"{path}:{node.lineno}", code, names


def codes_of(node: ast.expr) -> Iterator[str]:
    match node:
        case ast.Constant(value=str(code)):
            yield code
        case ast.JoinedStr(values=[ast.Constant(value=str(begin)), *_]):
            yield from (code for code in CATALOGUE if code.startswith(begin))


@SYNTAX
def test_what_is_said_has_a_text_and_the_values_for_it() -> None:
    wrong = [
        f"{where}: {code}"
        for where, code, names in said()
        if code not in CATALOGUE or set(holes(CATALOGUE[code])) != names
    ]
    assert wrong == []


@SYNTAX
def test_each_text_is_said_somewhere() -> None:
    strings = {
        node.value
        for nodes in module_nodes().values()
        for node in nodes
        if isinstance(node, ast.Constant) and isinstance(node.value, str)
    }
    spoken = {code for _, code, _ in said()} | strings
    assert set(CATALOGUE) - spoken == set()


@pytest.mark.parametrize("package", PACKAGES)
def test_each_text_reads_well_with_short_and_with_long_values(package: str) -> None:
    for code, text in texts(package).items():
        for value in ("x", LONG):
            values = {name: 7 if form else value for name, form in holes(text).items() if "%" not in form}
            if any("%" in form for form in holes(text).values()):
                continue
            shown = say(code, **values)
            assert shown.strip(), code
            assert not re.search(r"  | [,;.]|\(\)|''", shown), (code, shown)
            for sentence in re.split(r"[.:;?!](?= |$)", shown):
                assert len(re.findall(r"[\w'/.-]+", sentence)) <= MOST_WORDS, (code, sentence)


@pytest.mark.parametrize("package", PACKAGES)
def test_a_text_of_several_sentences_ends_with_a_full_stop(package: str) -> None:
    open_ended = [
        code
        for code, text in texts(package).items()
        if re.search(r"[a-z]\. [A-Z]", text)
        and not text.endswith((".", "?", ")", "}"))
        and "fundamen " not in text
        and not re.search(r": \S+( \S+){0,6}$", text)
    ]
    assert open_ended == []


@SYNTAX
def test_nothing_decides_by_the_words_of_a_message() -> None:
    prose = {"reason", "why", "detail", "remark", "sentence", "problem", "meaning", "decided", "do", "found", "what"}
    deciding = {"startswith", "endswith", "partition", "split", "find", "index", "lower"}

    def is_prose(node: ast.expr) -> bool:
        return isinstance(node, ast.Attribute) and node.attr in prose

    def is_text(node: ast.expr) -> bool:
        return isinstance(node, ast.Constant) and isinstance(node.value, str) and " " in node.value

    decided = []
    for path, nodes in module_nodes().items():
        for node in nodes:
            match node:
                case ast.Call(func=ast.Attribute(value=of, attr=name)) if name in deciding and is_prose(of):
                    decided.append(f"{path}:{node.lineno}")
                case ast.Compare(left=left, comparators=[right]) if (is_prose(left) and is_text(right)) or (
                    is_text(left) and is_prose(right)
                ):
                    decided.append(f"{path}:{node.lineno}")
    assert decided == []


def test_a_message_keeps_its_code_and_values_on_its_way_to_another_process() -> None:
    message = say("trace.no-user-may-execute-it-mode")
    again = pickle.loads(pickle.dumps(message))  # noqa: S301 - it was made one line before
    assert (again, again.code, again.values) == (message, message.code, message.values)
    assert encode_json(message) == encode_json(str(message))


def test_what_someone_else_says_is_quoted() -> None:
    quoted = as_said("No space left on device")
    assert (quoted.code, quoted.values) == ("quoted", {"text": "No space left on device"})
    assert as_said(quoted) is quoted


def test_a_value_that_is_missing_is_a_failure_and_no_gap_on_a_screen() -> None:
    code = next(code for code, text in CATALOGUE.items() if holes(text))
    with pytest.raises(KeyError):
        say(code)
    with pytest.raises(KeyError):
        say("trace.nothing-has-this-code")
    assert isinstance(say(code, **dict.fromkeys(holes(CATALOGUE[code]), 1)), Message)


@SYNTAX
def test_no_test_outside_the_report_asserts_a_sentence_of_the_catalogue() -> None:
    pieces = [piece.strip(" .;:,") for text in CATALOGUE.values() for piece in re.split(r"\{[^}]*\}", text)]
    whole, long = "\n".join(pieces), [piece for piece in pieces if len(piece.split()) > _FEW + 1]
    asserted = [
        f"{file.relative_to(TESTS)}:{constant.lineno} {constant.value!r}"
        for file in TESTS.rglob("*.py")
        if file.relative_to(TESTS).parts[0] not in {"report", "messages"}
        for node in nodes_of(ast.parse(file.read_text()))
        if isinstance(node, ast.Assert)
        for constant in nodes_of(node.test)
        if isinstance(constant, ast.Constant) and isinstance(constant.value, str)
        if len(constant.value.split()) > _FEW
        if constant.value.strip(" .;,") in whole or any(piece in constant.value for piece in long)
        if constant.value not in _STATES and not _COMMAND.match(constant.value)
    ]
    assert asserted == []
