"""The log of a run: what was tried, what was decided, how long it took. Shown by -vv, kept by --log-file.

Secrets are blotted out, and control characters escaped, in every line.
"""

import logging
import sys

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError
from fundamen.model.secrets import without_secrets

_FORM = "%(relativeCreated)8.0f ms  %(name)s: %(message)s"
_LOG = logging.getLogger("fundamen")


class _PlainFormatter(logging.Formatter):
    """Lines that can be shown on a terminal and handed on."""

    def formatMessage(self, record: logging.LogRecord) -> str:  # noqa: N802 - logging's own name
        """One line of text: what was said, without secrets."""
        record.message = printable(without_secrets(record.message))
        record.name = record.name.removeprefix("fundamen.")
        return super().formatMessage(record)

    def formatException(self, ei: object) -> str:  # noqa: N802 - likewise
        """A traceback, without secrets; its line ends stay."""
        return "\n".join(printable(line) for line in without_secrets(super().formatException(ei)).splitlines())  # type: ignore[arg-type]


def begin(*, is_shown: bool, file: str | None) -> None:
    """Have the log shown on standard error, or added to a file, or both.

    Raises:
        UnreadableError: the file cannot be written.
    """
    handlers: list[logging.Handler] = [logging.StreamHandler(sys.stderr)] if is_shown else []
    if file is not None:
        try:
            handlers.append(logging.FileHandler(file, encoding="utf-8", errors="backslashreplace"))
        except OSError as error:
            raise UnreadableError(
                what=say("cli.the-log-cannot-be-written", file=printable(file)),
                why=error.strerror or str(error),
                do=say("cli.name-a-file-in-a-folder"),
            ) from error
    for handler in handlers:
        handler.setFormatter(_PlainFormatter(_FORM))
        _LOG.addHandler(handler)
    if handlers:
        _LOG.setLevel(logging.DEBUG)
        _LOG.propagate = False
