"""The built command, as a forked child of a process that has imported all of it: a run costs hundredths of a second.

The child has arguments, environment, folder and standard streams of its own, and starts with nothing remembered, as a
process started afresh would. What a start itself does (which modules are loaded, how streams are encoded) is tested on
processes that are started cold.
"""

import importlib
import json
import os
import pkgutil
import shutil
import signal
import socket
import subprocess
import sys
from collections.abc import Iterator, Mapping
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from threading import Thread
from typing import Any, NamedTuple

import msgspec

from fundamen.model.encoding import as_message
from fundamen.report import contracts

_SECONDS = 400  # a bound for what hangs; a machine may be slow
_PIPE_SIZE = 1 << 16  # bytes that a pipe takes without a reader

Word = str | os.PathLike[str] | bytes


@cache
def record_types() -> Mapping[str, type[msgspec.Struct]]:
    """The types of the records that commands print, by their schemas."""
    for module in pkgutil.iter_modules(contracts.__path__, contracts.__name__ + "."):
        importlib.import_module(module.name)
    waiting, found = [msgspec.Struct], dict[str, type[msgspec.Struct]]()
    for kind in waiting:  # it grows
        waiting += kind.__subclasses__()
        schema = dict(zip(kind.__struct_fields__[::-1], kind.__struct_defaults__[::-1], strict=False)).get("schema")
        if kind.__module__.startswith(contracts.__name__) and isinstance(schema, str):
            found[schema] = kind
    return found


class Ran(NamedTuple):
    """One finished run of the command."""

    status: int  # negative: the signal that ended it
    out: str
    err: str
    peak: int = 0  # KiB of memory

    @property
    def records(self) -> list[dict[str, Any]]:
        """Standard output as JSON Lines, each as its type has it."""
        found = [json.loads(line) for line in self.out.splitlines()]
        for record in found:
            if (kind := record_types().get(record.get("schema"))) is not None:
                msgspec.convert(record, kind, dec_hook=as_message)
        return found


class Running:
    """A run that goes on. Waiting for its end gives its exit status."""

    def __init__(self, reply: socket.socket) -> None:
        self._reply = reply
        self.pid = int(self._read_line())
        self.peak = 0  # KiB of memory, once it has ended

    def wait(self, seconds: float = _SECONDS) -> int:
        """Its exit status once it has ended; it is killed where that takes too long."""
        self._reply.settimeout(seconds)
        try:
            status, self.peak = int(self._read_line()), int(self._read_line())
        except TimeoutError as error:
            os.killpg(self.pid, signal.SIGKILL)
            raise AssertionError(f"the command did not end within {seconds} s") from error
        finally:
            self._reply.close()
        return status

    def _read_line(self) -> str:
        line = bytearray()
        while (byte := self._reply.recv(1)) not in {b"", b"\n"}:
            line += byte
        assert line, "the server of commands has ended"
        return line.decode()


class Server:
    """The process that forks. Made by ``serving``."""

    def __init__(self, control: socket.socket) -> None:
        self._control = control

    def start(
        self, words: tuple[Word, ...], streams: tuple[int, int, int], environment: Mapping[str, str], folder: Path
    ) -> Running:
        """Start the command with these three descriptors as its standard streams."""
        ours, theirs = socket.socketpair()
        request = {
            "words": [os.fsdecode(word) for word in words],
            "environment": dict(environment),
            "folder": str(folder),
        }
        data = json.dumps(request).encode()
        with theirs:
            self._control.sendall(len(data).to_bytes(4, "big"))
            self._control.sendall(data)
            socket.send_fds(self._control, [b"!"], [*streams, theirs.fileno()])
        return Running(ours)

    def run(self, words: tuple[Word, ...], environment: Mapping[str, str], folder: Path, given: bytes = b"") -> Ran:
        """Run the command to its end, with some bytes on its standard input."""
        reading, writing = os.pipe()
        out, err = os.memfd_create("out"), os.memfd_create("err")
        try:
            running = self.start(words, (reading, out, err), environment, folder)
            os.close(reading)
            if len(given) <= _PIPE_SIZE:
                _feed(writing, given)
            else:
                Thread(target=_feed, args=(writing, given), daemon=True).start()
            status = running.wait()
            return Ran(status, _text(out), _text(err), running.peak)
        finally:
            os.close(out)
            os.close(err)


@contextmanager
def serving() -> Iterator[Server]:
    """Start the process."""
    ours, theirs = socket.socketpair()
    command = [sys.executable, str(Path(__file__).with_name("server.py")), str(theirs.fileno())]
    with theirs:
        process = subprocess.Popen(command, pass_fds=[theirs.fileno()], stdin=subprocess.DEVNULL)
    with process, ours:
        yield Server(ours)


def run_cold(words: tuple[Word, ...], environment: Mapping[str, str], folder: Path, given: bytes = b"") -> Ran:
    """Run the command as a process that is started afresh."""
    finished = subprocess.run(
        [installed_command(), *words],
        env=environment,
        cwd=folder,
        input=given,
        capture_output=True,
        timeout=_SECONDS,
        check=False,
    )
    return Ran(
        finished.returncode,
        finished.stdout.decode("utf-8", "surrogateescape"),
        finished.stderr.decode("utf-8", "surrogateescape"),
    )


def installed_command() -> str:
    """Where the command is installed beside this Python."""
    command = shutil.which("fundamen", path=str(Path(sys.executable).parent))
    assert command, "the package is not installed beside this Python"
    return command


def _feed(pipe: int, given: bytes) -> None:
    with open(pipe, "wb") as file:
        try:
            file.write(given)
        except BrokenPipeError:
            return  # the command did not read all of it


def _text(file: int) -> str:
    os.lseek(file, 0, os.SEEK_SET)
    with open(file, "rb", closefd=False) as reading:
        return reading.read().decode("utf-8", "surrogateescape")
