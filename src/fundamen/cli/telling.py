"""How far a long examination is, shown to a person at a terminal."""

from contextlib import ExitStack
from typing import Any, Self

from fundamen.cli.output import Output


class SurveyProgress:
    """Shows how far a survey is, to a person at a terminal: a bar where it is known how much there is."""

    def __init__(self, output: Output) -> None:
        self._output = output
        self._part = ExitStack()
        self._more: Any = lambda _count: None  # called with how many more are done

    def __enter__(self) -> Self:
        return self

    def __exit__(self, *error: object) -> None:
        self._part.close()

    def begin(self, what: str, count: int) -> None:
        """A part begins."""
        self._part.close()
        if count:
            self._more = self._part.enter_context(self._output.count_up(count, what))
        else:
            self._more = lambda _count: None
            self._part.enter_context(self._output.say_working(what))

    def more(self, count: int) -> None:
        """So many more are done."""
        self._more(count)
