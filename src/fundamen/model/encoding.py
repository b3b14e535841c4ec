"""Write records down: the one place that says what becomes of a message in a file of ours."""

from typing import Any

import msgspec

from fundamen.messages import Message


def as_plain(value: object) -> object:
    """Give the text of a message, which ``msgspec`` does not know by itself.

    Raises:
        NotImplementedError: it is nothing of ours.
    """
    if isinstance(value, Message):
        return str(value)
    raise NotImplementedError(type(value).__name__)


_ENCODER = msgspec.json.Encoder(enc_hook=as_plain)


def encode_json(record: object) -> bytes:
    """A record as JSON, its messages as their texts."""
    return _ENCODER.encode(record)


def to_plain(record: object) -> Any:  # noqa: ANN401 - as msgspec has it
    """A record as lists, dictionaries, numbers and strings."""
    return msgspec.to_builtins(record, enc_hook=as_plain)
