r"""Read what a prefix's loader writes of its own work while a program runs (wine, channels loaddll and module).

Each line: ``PPPP:TTTT:CLASS:CHANNEL:FUNCTION MESSAGE``, the process and thread in hexadecimal, names as ``L"..."`` with
backslashes doubled and other characters as ``\xxxx``. Source: wine's documentation of debug messages, and its output.
"""

import re
from collections.abc import Iterator

import msgspec

_LINE = re.compile(rb"([0-9a-f]{4,8}):[0-9a-f]{4,8}:(?:trace|warn|err|fixme):(\w+):(\w*) ?(.*)\n")
_NAME = re.compile(r'L"((?:[^"\\]|\\.)*)"')
_ESCAPE = re.compile(r"\\(?:x([0-9a-fA-F]{4})|([0-9a-fA-F]{4})|(.))")
_STATUS = re.compile(r"status[= ]([0-9a-f]{8})")
INIT_FAILED = 0xC0000142  # STATUS_DLL_INIT_FAILED. Source: ntstatus.h
_NT_PREFIX = "\\??\\"
_MOST_PENDING = 1 << 16  # bytes of a line without an end


class Loaded(msgspec.Struct, frozen=True):
    """A file was loaded."""

    process: str
    path: str


class Failed(msgspec.Struct, frozen=True):
    """A name was asked for, and could not be loaded."""

    process: str
    name: str
    status: int  # an NTSTATUS


Event = Loaded | Failed


class LoaderTrace:
    """Takes a stream that a program and its loader both write to, and tells the two apart."""

    def __init__(self) -> None:
        self._pending = b""

    def feed(self, data: bytes) -> tuple[list[Event], bytes]:
        """Take the next piece; give the events that it completes, and what the program itself has written."""
        data = self._pending + data
        events: list[Event] = []
        own = bytearray()
        at = 0
        for line in _LINE.finditer(data):
            own += data[at : line.start()]
            at = line.end()
            events += _events(line)
        rest = data[at:]
        cut = rest.rfind(b"\n") + 1  # a line of the loader's may be only half here
        keep = rest[cut:] if len(rest) - cut < _MOST_PENDING else b""
        self._pending = keep
        return events, bytes(own) + rest[: len(rest) - len(keep)]

    def rest(self) -> bytes:
        """The rest of the stream."""
        rest, self._pending = self._pending, b""
        return rest


def _events(line: re.Match[bytes]) -> Iterator[Event]:
    process, channel, function, message = (part.decode("utf-8", "replace") for part in line.groups())
    name = _NAME.search(message)
    if name is None:
        return
    if channel == "loaddll" and function == "build_module" and message.startswith("Loaded"):
        yield Loaded(process, _plain(name[1]))
    elif channel == "module" and message.startswith("Initialization of ") and message.endswith(" failed"):
        yield Failed(process, _plain(name[1]), INIT_FAILED)
    elif channel == "module" and message.startswith("Failed to load module"):
        status = _STATUS.search(message)
        if status is not None:
            yield Failed(process, _plain(name[1]), int(status[1], 16))


def _plain(text: str) -> str:
    unescaped = _ESCAPE.sub(lambda m: chr(int(m[1] or m[2], 16)) if m[1] or m[2] else m[3], text)
    return unescaped.removeprefix(_NT_PREFIX)
