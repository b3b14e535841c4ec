"""Each command's help fits on a screen, and what it shows can be typed."""

import contextlib
import inspect
import re
import shlex
from collections.abc import Iterator
from pathlib import Path

import click
import pytest

from conftest import Fundamen
from fundamen.cli.helping import CommonOption, SharedOption
from fundamen.cli.main import root

# What our readers stumbled over, and what is no plain English.
ODD = re.compile(
    r"\b(stands? on|at hand|anew|by now|whoever|lets nobody|come to lack|gone? on with|tak(?:e|en|es) back|put right"
    r"|carries out|other width|this width|not named|in none of|as of (?:a|every|each)|vouch(?:es)? for|gives? up)\b",
    re.IGNORECASE,
)
ROOT = Path(__file__).parent.parent.parent
STAGES = ("Find out", "Examine", "Repair", "Prepare")


def commands(command: click.Command = root, parent: click.Context | None = None) -> Iterator[click.Context]:
    context = click.Context(command, info_name=command.name or "fundamen", parent=parent, **command.context_settings)
    yield context
    if isinstance(command, click.Group):
        for name in command.list_commands(context):
            inner = command.get_command(context, name)
            assert inner is not None
            yield from commands(inner, context)


ALL = {context.command_path: context for context in commands()}


def examples(context: click.Context) -> list[str]:
    text = inspect.cleandoc(context.command.help or "").replace("\\\n", " ")
    return [line.strip() for line in text.splitlines() if line.startswith("fundamen ")]


@pytest.mark.parametrize("path", ALL)
def test_a_help_text_fits_on_one_screen(path: str) -> None:
    context = ALL[path]
    own = [each for each in context.command.params if isinstance(each, click.Option)]
    own = [each for each in own if not isinstance(each, CommonOption | SharedOption)]
    assert len(own) <= 12
    assert len(context.get_help().splitlines()) <= 50
    assert len(examples(context)) <= 3
    if context.parent is not None and context.parent.command is not root:
        assert len(context.command.get_short_help_str(1000)) <= 60


@pytest.mark.parametrize("path", [path for path in ALL if path != "fundamen"])
def test_each_example_can_be_typed(path: str) -> None:
    shown = examples(ALL[path])
    assert shown
    for example in shown:
        for line in re.split(r"[;|]|&&", example):
            if line.strip().startswith("fundamen"):
                read(shlex.split(re.sub(r" >.*", "", line)))


DOCS = [ROOT / "README.md", *sorted((ROOT / "docs").glob("*.md")), *sorted((ROOT / "docs" / "formats").glob("*.md"))]
TEXTS = [*DOCS, *sorted((ROOT / "src" / "fundamen").rglob("*.toml"))]


@pytest.mark.parametrize("path", TEXTS, ids=lambda path: path.name)
def test_each_command_in_the_documents_and_the_knowledge_can_be_typed(path: Path) -> None:
    text = path.read_text().replace("\\\n", " ")
    found = re.findall(r"`(fundamen [a-z][^`]*)`|^ {4,}(fundamen [a-z].*)$|^(fundamen [a-z].*)$", text, re.MULTILINE)
    found += re.findall(r'"(fundamen [a-z][^"]*)"', text) if path.suffix == ".toml" else []
    for example in ("".join(each) if isinstance(each, tuple) else each for each in found):
        for line in re.split(r"[;|]|&&|   #", example):
            if line.strip().startswith("fundamen ") and not line.rstrip().endswith(("...", " -")):
                read(shlex.split(re.sub(r"\{\w+\}", "1", re.sub(r" \[.*?\]| >.*", "", line))))


def read(words: list[str]) -> None:
    """Read the words of a command as the command line does, without running anything."""
    path = words.pop(0)
    while isinstance(ALL[path].command, click.Group):
        if not words:
            return  # a group by itself shows its help
        path = f"{path} {words.pop(0)}"
    if not words:
        return  # only the name of a command, in a sentence
    with (
        contextlib.suppress(click.exceptions.Exit),
        ALL[path].command.make_context(path, words, parent=ALL["fundamen"]),
    ):
        return


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("survey", "--yes"), "--yes is only for --restore"),
        (("restore", "--because", "it", "/x"), "--because is only for --pin"),
        (("trase",), "did you mean trace"),
        (("trace", "--obser", "/x"), "did you mean --observe"),
        (("sources", "trust"), "PLACE is missing"),
        (("roots", "list", "--json", "--machin", "/x"), "did you mean --machine"),
    ],
)
def test_wrong_usage_is_reported_with_what_may_be_meant(fundamen: Fundamen, words: tuple[str, ...], said: str) -> None:
    ran = fundamen(*words)
    assert (ran.status, said in ran.err, "Do: " in ran.err) == (2, True, True), ran.err
    if "--json" in words:
        assert ran.records[0]["error"]["code"] == "usage"


def test_alone_it_shows_the_ways_in_by_what_one_has(fundamen: Fundamen) -> None:
    ran = fundamen()
    shown = re.findall(r"^  an? .*?  +(fundamen .*)$", ran.out, re.MULTILINE)
    assert (ran.status, len(shown)) == (0, 5)
    for line in shown:
        read(shlex.split(line))


def test_commands_are_listed_by_stage_each_in_one_short_line() -> None:
    lines = ALL["fundamen"].get_help().splitlines()
    assert [line.rstrip(":") for line in lines if line.rstrip(":") in STAGES] == list(STAGES)
    listed = [re.match(r"^  ([a-z][a-z-]*)  +(.{1,60})$", line) for line in lines]
    assert {found[1] for found in listed if found} == {path.split()[1] for path in ALL if path != "fundamen"}


@pytest.mark.parametrize("path", ALL)
def test_help_is_plain_english(path: str) -> None:
    text = " ".join(ALL[path].get_help().split())
    assert ODD.findall(text) == []
    assert not re.search(r"\b(What a|As of)\b", text)
