"""Write docs/reference/commands.md and docs/man/*.1 out of the commands, and codes.md out of the catalogue of messages.

With --check only compare.
"""

import importlib
import inspect
import pkgutil
import re
import sys
from collections.abc import Iterator
from pathlib import Path

import click

from fundamen import __version__
from fundamen.cli.exits import Exit
from fundamen.cli.helping import CommonOption
from fundamen.cli.main import root
from fundamen.messages import english

DOCS = Path(__file__).parent.parent / "docs"
_HEAD = """# Commands

This page is written from the commands themselves. `fundamen COMMAND --help` shows the same.

"""


_CODES = """# Codes

Each reason, remark, refusal and next step in JSON has a `code` and a `text`. A code stays as it is when the text is
changed; what stands in braces is different each time. A code begins with the part of Fundamen that says it. Besides
these, `command` is a command that can be pasted, `quoted` comes from another speaker (the operating system, a server, a
tool), and `knowledge.` with a name is a next step of our knowledge of messages.

"""


def main() -> None:
    """Write or compare all files."""
    contexts = list(commands(root, None))
    files = {DOCS / "reference" / "commands.md": _HEAD + "\n".join(map(section, contexts)) + statuses()}
    files[DOCS / "reference" / "codes.md"] = _CODES + "\n".join(map(codes_of, sorted(catalogue())))
    files |= {DOCS / "man" / f"{name_of(context)}.1": man_page(context) for context in contexts}
    for path, text in files.items():
        if "--check" not in sys.argv:
            path.parent.mkdir(parents=True, exist_ok=True)
            path.write_text(text)
        elif not path.exists() or path.read_text() != text:
            sys.exit(f"{path} is not the commands' own: run make reference")
    strays = {*(DOCS / "man").glob("*.1")} - {*files}
    for path in strays:
        if "--check" in sys.argv:
            sys.exit(f"{path} belongs to no command: run make reference")
        path.unlink()


def commands(command: click.Command, parent: click.Context | None) -> Iterator[click.Context]:
    """The contexts of a command and of all below it."""
    context = click.Context(command, info_name=command.name, parent=parent, **command.context_settings)
    yield context
    if isinstance(command, click.Group):
        for name in command.list_commands(context):
            inner = command.get_command(context, name)
            assert inner is not None  # noqa: S101 - it was listed
            yield from commands(inner, context)


def name_of(context: click.Context) -> str:
    """The name of a command's page."""
    return context.command_path.replace(" ", "-")


def parts_of(context: click.Context) -> tuple[list[str], list[str]]:
    """(paragraphs, lines of examples) of a command's help."""
    text, _, examples = inspect.cleandoc(context.command.help or "").partition("\n\n\b\n")
    return [" ".join(part.split()) for part in text.split("\n\n")], examples.splitlines()


def options_of(context: click.Context) -> list[tuple[str, str]]:
    """The options of a command but the common ones, each with its help."""
    found = []
    for parameter in context.command.get_params(context):
        record = parameter.get_help_record(context)
        own = isinstance(parameter, click.Option) and not isinstance(parameter, CommonOption)
        if own and record is not None and "--help" not in parameter.opts:
            found.append(record)
    return found


def usage_of(context: click.Context) -> str:
    """The usage line."""
    return f"{context.command_path} {' '.join(context.command.collect_usage_pieces(context))}".strip()


def section(context: click.Context) -> str:
    """A command in Markdown."""
    paragraphs, examples = parts_of(context)
    level = "##" if context.parent is None or context.parent.command is root else "###"
    lines = [f"{level} {context.command_path}", "", f"    {usage_of(context)}", ""]
    for paragraph in paragraphs:
        lines += [paragraph.replace("<", "\\<"), ""]
    if examples:
        lines += [f"    {example}" for example in examples] + [""]
    if records := options_of(context):
        lines += ["| option | meaning |", "|---|---|"]
        cells = [tuple(cell.replace("|", "\\|") for cell in record) for record in records]
        lines += [f"| `{name}` | {meaning} |" for name, meaning in cells]
        lines.append("")
    return "\n".join(lines)


def statuses() -> str:
    """The table of exit statuses."""
    rows = [f"| {status.value} | {status.meaning} |" for status in Exit]
    return "\n".join(["\n## Exit statuses", "", "| status | meaning |", "|---|---|", *rows, ""])


def catalogue() -> list[str]:
    """The packages that say something."""
    return [module.name for module in pkgutil.iter_modules(english.__path__)]


def codes_of(package: str) -> str:
    """The table of one package's codes."""
    texts = importlib.import_module(f"{english.__name__}.{package}").TEXTS
    rows = [f"| `{package}.{name}` | {_in_table(text)} |" for name, text in texts.items()]
    return "\n".join([f"## {package}", "", "| code | text |", "|---|---|", *rows, ""])


def _in_table(text: str) -> str:
    return re.sub(r"([\\`*_<>|\[\]#~])", r"\\\1", re.sub(r"[!:][^{}]*\}", "}", text))


def man_page(context: click.Context) -> str:
    """A command as a manual page. Source: man(7)."""
    paragraphs, examples = parts_of(context)
    short = paragraphs[0].rstrip(".") if context.parent is None else context.command.get_short_help_str(200).rstrip(".")
    lines = [f'.TH "{name_of(context).upper()}" "1" "" "fundamen {__version__}" "User Commands"', ".SH NAME"]
    lines += [f"{roff(name_of(context))} \\- {roff(short)}", ".SH SYNOPSIS", roff(usage_of(context)), ".SH DESCRIPTION"]
    for paragraph in paragraphs:
        lines += [".PP", roff(paragraph)]
    if records := options_of(context):
        lines.append(".SH OPTIONS")
        for name, meaning in records:
            lines += [".TP", f"\\fB{roff(name)}\\fR", roff(meaning)]
    if isinstance(context.command, click.Group):
        lines.append(".SH COMMANDS")
        for name in context.command.list_commands(context):
            lines += [".TP", f"\\fB{roff(context.command_path)} {roff(name)}\\fR"]
            inner = context.command.get_command(context, name)
            lines.append(roff(inner.get_short_help_str(200) if inner is not None else ""))
    if examples:
        lines += [".SH EXAMPLES", ".nf", *map(roff, examples), ".fi"]
    return "\n".join(lines) + "\n"


def roff(text: str) -> str:
    """Text with what means something to roff escaped."""
    escaped = text.replace("\\", "\\e").replace("-", "\\-")
    return re.sub(r"^([.'])", r"\\&\1", escaped)


if __name__ == "__main__":
    main()
