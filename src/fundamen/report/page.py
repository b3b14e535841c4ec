"""Lay text out for a terminal 100 columns wide: one answer first, then headed parts."""

import textwrap
from collections.abc import Iterable, Sequence

import click

from fundamen.model.display import printable
from fundamen.model.verdict import Verdict
from fundamen.prerequisites.answer import RequirementStanding
from fundamen.report.marks import BAD, GOOD, colour, mark

WIDTH = 100
_VERDICT_WIDTH = 20
_GAP = 2


class Page:
    """Text that is put together line by line. All text that comes from a machine goes through ``shown``."""

    def __init__(self, *, drawn: bool) -> None:
        """Begin a page.

        Args:
            drawn: whether the terminal can draw block marks.
        """
        self._lines: list[str] = []
        self._drawn = drawn

    def answer(self, text: str, *, good: bool | None = None) -> None:
        """The answer: one sentence that a technician can read out."""
        colour_of_answer = {True: GOOD, False: BAD, None: None}[good]
        self._lines += [click.style(line, bold=True, fg=colour_of_answer) for line in _wrap_text(text, "", "")]

    def heading(self, text: str) -> None:
        """A part of the page."""
        self._lines += ["", click.style(printable(text), bold=True)]

    def blank(self) -> None:
        """An empty line."""
        self._lines.append("")

    def line(self, text: str, indent: int = 2) -> None:
        """A sentence, wrapped."""
        self._lines += _wrap_text(text, " " * indent, " " * indent)

    def more(self, count: int) -> None:
        """Say how many things of a list are not shown, where any is not."""
        if count > 0:
            self.line(f"and {count} more (-v names all)")

    def raw(self, text: str) -> None:
        """A line that must not be wrapped, such as a command to paste."""
        self._lines.append("  " + printable(text))

    def step(self, text: str) -> None:
        """A next step: a command to paste, or a sentence that ends with a full stop."""
        if text.endswith("."):
            self.line(text)
        else:
            self.raw(text)

    def field(self, label: str, text: str, indent: int = 6, width: int = 12) -> None:
        """A labelled sentence, wrapped under itself."""
        self._lines += _wrap_text(text, f"{'':{indent}}{printable(label):<{width}}", " " * (indent + width))

    def verdict(
        self,
        verdict: Verdict | RequirementStanding,
        rest: str,
        number: int | None = None,
        word: str = "",
        *,
        width: int = _VERDICT_WIDTH,
    ) -> None:
        """A line that begins with a verdict: number, mark, word (its own, if none is given), then the rest."""
        counter = f"{number:>2}  " if number is not None else ""
        said = f"{mark(verdict, drawn=self._drawn)} {printable(word) or verdict:<{width}}"
        word = click.style(said, fg=colour(verdict))
        self._lines.append(f"  {counter}{word}{printable(rest)}".rstrip())

    def columns(self, rows: Iterable[Sequence[str]], heads: Sequence[str] = (), indent: int = 2) -> None:
        """A table whose last column takes what room is left, and wraps."""
        table = [[printable(cell) for cell in row] for row in rows]
        widths = [max(len(row[i]) for row in (*table, heads) if row) for i in range(len(table[0]) - 1)] if table else []
        if heads and table:
            shown_heads = [printable(head) for head in heads]
            self._lines.append(click.style(" " * indent + _row(shown_heads, widths), dim=True))
        for row in table:
            lead = " " * indent + _row([*row[:-1], ""], widths)
            self._lines += _wrap_text(row[-1], lead, " " * min(len(lead), WIDTH * 3 // 5))

    def verdicts(self, rows: Iterable[tuple[Verdict, Sequence[str]]]) -> None:
        """A table whose first column is a verdict."""
        listed = list(rows)
        cells = [[printable(cell) for cell in row] for _, row in listed]
        widths = [max(len(row[i]) for row in cells) for i in range(len(cells[0]) - 1)] if cells else []
        for (verdict, _), row in zip(listed, cells, strict=True):
            left = WIDTH - 2 - 2 - _VERDICT_WIDTH - sum(widths) - _GAP * len(widths)
            self.verdict(verdict, _row([*row[:-1], shorten(row[-1], max(left, 12))], widths))

    def text(self) -> str:
        """The page."""
        return "\n".join(self._lines) + "\n"


def shorten(text: str, width: int) -> str:
    """Text with its middle left out where it is too long; a path keeps its beginning and its name."""
    if len(text) <= width:
        return text
    tail = (width - 3) * 2 // 3
    return f"{text[: width - 3 - tail]}...{text[len(text) - tail :]}"


def count_of(number: int, noun: str, plural: str = "") -> str:
    """A number with its noun: "1 fault", "3 faults"."""
    return f"{number} {noun if number == 1 else plural or noun + 's'}"


def some_of(names: Sequence[str], most: int | None) -> str:
    """The first of some names, and how many more there are; without a bound all of them."""
    most = len(names) if most is None else most
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more


def size_in_words(size: int) -> str:
    """A number of bytes as people say it."""
    for unit, factor in (("GiB", 1 << 30), ("MiB", 1 << 20), ("KiB", 1 << 10)):
        if size >= factor:
            return f"{size / factor:.1f} {unit}"
    return count_of(size, "byte")


def _row(cells: Sequence[str], widths: Sequence[int]) -> str:
    gap = " " * _GAP
    return "".join(f"{cell:<{width}}{gap}" for cell, width in zip(cells, widths, strict=False)) + cells[-1]


def _wrap_text(text: str, first: str, rest: str) -> list[str]:
    return textwrap.wrap(
        printable(text),
        WIDTH,
        initial_indent=first,
        subsequent_indent=rest,
        break_long_words=False,
        break_on_hyphens=False,
    ) or [first.rstrip()]
