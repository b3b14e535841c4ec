"""One record as one line of JSON, and what every command says when it fails."""

import re
from typing import Literal

import msgspec

from fundamen.messages import Message
from fundamen.model.display import printable, shown_json
from fundamen.model.encoding import encode_for_scripts, to_coded
from fundamen.model.errors import FundamenError

_LONE_SURROGATES = re.compile("[\ud800-\udfff]")


class Failure(msgspec.Struct, frozen=True):
    """An input that could not be read: which kind of error (a stable code), and its three parts."""

    code: str
    what: Message
    why: Message
    do: Message


class ErrorRecord(msgspec.Struct, frozen=True):
    """A run that failed as a whole, for every command with ``--json``."""

    error: Failure
    schema: Literal["fundamen.error/3"] = "fundamen.error/3"


def json_line(record: msgspec.Struct) -> str:
    r"""One line of JSON. Undecodable bytes of a path, which JSON cannot hold, stand in it as ``\x..``."""
    try:
        text = encode_for_scripts(record).decode()
    except UnicodeEncodeError:
        text = msgspec.json.encode(_without_surrogates(to_coded(record))).decode()
    return shown_json(text)


def failure(error: FundamenError) -> Failure:
    """An error with its code and its three parts."""
    return Failure(error.code, error.what, error.why, error.do)


def _without_surrogates(value: object) -> object:
    if isinstance(value, str):
        return _LONE_SURROGATES.sub(lambda found: printable(found.group()), value)
    if isinstance(value, dict):
        return {_without_surrogates(key): _without_surrogates(part) for key, part in value.items()}
    if isinstance(value, list | tuple):
        return [_without_surrogates(part) for part in value]
    return value
