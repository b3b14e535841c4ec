"""Fork for each request on a socket, and run the command in the child. See ``command``.

A request is its size (4 bytes, big-endian), JSON (words, environment, folder), and one byte with four descriptors: the
three standard streams, and where to tell the child's process number, and later its exit status and peak
memory in KiB, a line each.
"""

import atexit
import functools
import gc
import importlib
import io
import json
import os
import pkgutil
import selectors
import signal
import socket
import sys
import tempfile
import threading
import traceback
from datetime import timedelta
from typing import Any, NoReturn, TextIO

import fundamen
from fundamen.cli import options
from fundamen.cli.main import main
from fundamen.knowledge.entries import load_knowledge

BUG = "A_BUG_IN"  # a variable of the environment: module:function:culprit
AHEAD = "SECONDS_AHEAD"  # another: how far this child's clock is ahead
_DESCRIPTORS = 4
_DESCRIPTOR_END = 256  # more than this process ever has


def import_all() -> None:
    """Import every module of the package, save those that want a library which is not installed; read the knowledge."""
    for module in pkgutil.walk_packages(fundamen.__path__, "fundamen."):
        if module.name.endswith("__main__"):
            continue
        try:
            importlib.import_module(module.name)
        except ImportError as error:
            if (error.name or "fundamen").startswith("fundamen"):
                raise
    load_knowledge()
    gc.collect()
    gc.freeze()


def serve(control: socket.socket) -> None:
    """Answer until the other side is closed."""
    waiting = selectors.DefaultSelector()
    waiting.register(control, selectors.EVENT_READ)
    while True:
        for key, _ in waiting.select():
            if key.fileobj is not control:
                waiting.unregister(key.fd)
                _tell_end(key.fd, *key.data)
            elif not (head := _read(control, 4)):
                return
            else:
                request = json.loads(_read(control, int.from_bytes(head, "big")))
                _, descriptors, _, _ = socket.recv_fds(control, 1, _DESCRIPTORS)
                *streams, reply = descriptors
                child = os.fork()
                if child == 0:
                    control.close()
                    os.close(reply)
                    run(request, streams)
                for stream in streams:
                    os.close(stream)
                os.write(reply, b"%d\n" % child)
                waiting.register(os.pidfd_open(child), selectors.EVENT_READ, (child, reply))


def _tell_end(descriptor: int, child: int, reply: int) -> None:
    os.close(descriptor)
    _, status, used = os.wait4(child, 0)
    os.write(reply, b"%d\n%d\n" % (os.waitstatus_to_exitcode(status), used.ru_maxrss))
    os.close(reply)


def _read(control: socket.socket, size: int) -> bytes:
    data = b""
    while len(data) < size and (piece := control.recv(size - len(data))):
        data += piece
    return data


def run(request: dict[str, Any], streams: list[int]) -> NoReturn:
    """The child: become what a process started afresh would be, and run the command to its end."""
    os.setsid()
    for number, stream in enumerate(streams):
        os.dup2(stream, number)
    os.closerange(len(streams), _DESCRIPTOR_END)
    os.chdir(request["folder"])
    os.environ.clear()
    os.environ.update(request["environment"])
    tempfile.tempdir = None
    signal.signal(signal.SIGINT, signal.default_int_handler)
    sys.argv[:] = ["fundamen", *request["words"]]
    sys.stdin, sys.stdout, sys.stderr = (_stream(number, "r" if number == 0 else "w") for number in range(3))
    if bug := os.environ.pop(BUG, None):
        put_in_bug(*bug.split(":", 2))
    if seconds := os.environ.pop(AHEAD, None):
        set_clock_ahead(timedelta(seconds=float(seconds)))
    status = 0
    try:
        main()
    except SystemExit as ending:
        status = ending.code if isinstance(ending.code, int) else int(ending.code is not None)
    except BaseException:  # noqa: BLE001 - as the interpreter does at its outermost
        traceback.print_exc()
        status = 1
    finally:
        _end(status)


def put_in_bug(module: str, name: str, culprit: str) -> None:
    """Let a function of the command fail wherever one of its arguments is, or names, the culprit."""
    *above, last = name.split(".")
    owner = functools.reduce(getattr, above, importlib.import_module(module))
    sound = getattr(owner, last)

    def failing(*given: Any, **named: Any) -> Any:
        if any(culprit in f"{each!r} {getattr(each, 'name', '')}" for each in (*given, *named.values())):
            raise LookupError("a bug that a test has put in")
        return sound(*given, **named)

    setattr(owner, last, failing)


def set_clock_ahead(by: timedelta) -> None:
    """Let the command take it to be later than it is."""
    right = options.now
    options.now = lambda: right() + by


def _stream(number: int, mode: str) -> TextIO:
    """A standard stream as the interpreter makes it."""
    like = (sys.__stdin__, sys.__stdout__, sys.__stderr__)[number]
    assert isinstance(like, io.TextIOWrapper)
    buffered = open(number, f"{mode}b", closefd=False)  # noqa: SIM115 - it is open until the end
    by_line = number == 2 or buffered.isatty()
    return io.TextIOWrapper(buffered, like.encoding, like.errors, line_buffering=by_line)


def _end(status: int) -> NoReturn:
    """End as the interpreter does: its threads waited for, what was to be done at the end done, streams flushed."""
    threading._shutdown()  # type: ignore[attr-defined]
    atexit._run_exitfuncs()
    try:
        sys.stdout.flush()
        sys.stderr.flush()
    except OSError:
        status = 120  # as the interpreter has it
    os._exit(status)


if __name__ == "__main__":
    with socket.socket(fileno=int(sys.argv[1])) as asked:
        import_all()
        serve(asked)
