"""Write records down: the one place that says what becomes of a message in a file of ours."""

from typing import Any

import msgspec

from fundamen.messages import UNSAID, Message, as_said


def as_plain(value: object) -> object:
    """Give the text of a message, which ``msgspec`` does not know by itself.

    Raises:
        NotImplementedError: it is nothing of ours.
    """
    if isinstance(value, Message):
        return str(value)
    raise NotImplementedError(type(value).__name__)


def as_message(kind: type, stored: object) -> Message:
    """A message out of what was written down of it: the hook of ``msgspec`` for reading.

    Raises:
        NotImplementedError: it is to be something else.
        ValueError: it is none.
    """
    if kind is not Message:
        raise NotImplementedError(kind.__name__)
    match stored:
        case None:
            return UNSAID
        case str():
            return as_said(stored)
        case {"code": str(code), "text": str(text)}:
            return Message(text, code, {})
    raise ValueError("it is no message")


def as_coded(value: object) -> object:
    """The same for scripts: of a message its code and its text.

    Raises:
        NotImplementedError: it is nothing of ours.
    """
    if isinstance(value, Message):
        return {"code": value.decisive_code, "text": str(value)} if value else None
    raise NotImplementedError(type(value).__name__)


_ENCODER = msgspec.json.Encoder(enc_hook=as_plain)
_CODING = msgspec.json.Encoder(enc_hook=as_coded)


def encode_json(record: object) -> bytes:
    """A record as JSON, its messages as their texts."""
    return _ENCODER.encode(record)


def encode_for_scripts(record: object) -> bytes:
    """A record as JSON, its messages with their codes; one that says nothing is null."""
    return _CODING.encode(record)


def to_coded(record: object) -> Any:  # noqa: ANN401 - as msgspec has it
    """A record as lists, dictionaries, numbers and strings, its messages with their codes."""
    return msgspec.to_builtins(record, enc_hook=as_coded)


def to_plain(record: object) -> Any:  # noqa: ANN401 - as msgspec has it
    """A record as lists, dictionaries, numbers and strings."""
    return msgspec.to_builtins(record, enc_hook=as_plain)
