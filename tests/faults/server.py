"""Forks for each line on standard input, and runs the command in the child with the shim armed."""

import contextlib
import ctypes
import json
import os
import sys
from typing import Any

import fundamen.cli.commands.restore
import fundamen.cli.commands.resume
import fundamen.cli.commands.undo
import fundamen.cli.other_restorations
import fundamen.cli.plans
import fundamen.sources.client  # noqa: F401 - loaded once, before the forks
from fundamen.cli.main import main

MOST_STATUS = 255


def run(shim: Any, log: str, request: dict[str, Any], report: int) -> None:
    """The child: never comes back."""
    out = os.open(log, os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o644)
    os.dup2(os.open(os.devnull, os.O_RDONLY), 0)
    os.dup2(out, 1)
    os.dup2(out, 2)
    sys.argv = ["fundamen", *request["words"]]
    if request["log"]:
        shim.faults_log(os.fsencode(request["log"]))
    shim.faults_arm(request["mode"], request["at"], request["code"])
    status = 0
    try:
        main()
    except SystemExit as ending:
        status = ending.code if isinstance(ending.code, int) else MOST_STATUS
    finally:
        calls = shim.faults_count()
        shim.faults_arm(0, 0, 0)
        shim.faults_log_end()
        sys.stdout.flush()
        sys.stderr.flush()
        os.write(report, json.dumps(calls).encode())
        os._exit(status)


def warm(words: list[str]) -> None:
    """Run the command in this process, so that the modules which it loads late are there in every child."""
    sys.argv = ["fundamen", *words]
    with (
        open(os.devnull, "w", encoding="utf-8") as nowhere,
        contextlib.redirect_stdout(nowhere),
        contextlib.redirect_stderr(nowhere),
        contextlib.suppress(SystemExit),
    ):
        main()


def serve(path: str, log: str) -> None:
    """Answer each request with a line: [status, number of changing calls]."""
    shim = ctypes.CDLL(path)
    shim.faults_count.restype = ctypes.c_long
    shim.faults_log.argtypes = [ctypes.c_char_p]
    shim.faults_arm.argtypes = [ctypes.c_long, ctypes.c_long, ctypes.c_int]
    for line in sys.stdin:
        request = json.loads(line)
        if request["is_warming"]:
            warm(request["words"])
            print(json.dumps([0, 0]), flush=True)  # noqa: T201
            continue
        reading, writing = os.pipe()
        child = os.fork()
        if child == 0:
            run(shim, log, request, writing)
        os.close(writing)
        _, status = os.waitpid(child, 0)
        told = os.read(reading, 100)
        os.close(reading)
        print(json.dumps([os.waitstatus_to_exitcode(status), json.loads(told or b"0")]), flush=True)  # noqa: T201


serve(sys.argv[1], sys.argv[2])
