"""Forks for each line on standard input, and runs the command in the child with the shim armed."""

import contextlib
import ctypes
import gc
import importlib
import json
import os
import sys
from typing import Any

from fundamen.cli.main import main

MOST_STATUS = 255
KNOWN = set(sys.modules)


def run(shim: Any, request: dict[str, Any], report: int) -> None:
    """The child: never comes back."""
    os.environ.clear()
    os.environ.update(request["environment"])
    out = os.open(request["said"], os.O_WRONLY | os.O_CREAT | os.O_TRUNC, 0o644)
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
        os.write(report, json.dumps([calls, sorted(sys.modules.keys() - KNOWN)]).encode())
        os._exit(status)


def serve(path: str) -> None:
    """Answer each request with a line: [status, number of changing calls]."""
    shim = ctypes.CDLL(path)
    shim.faults_count.restype = ctypes.c_long
    shim.faults_log.argtypes = [ctypes.c_char_p]
    shim.faults_arm.argtypes = [ctypes.c_long, ctypes.c_long, ctypes.c_int]
    for line in sys.stdin:
        request = json.loads(line)
        reading, writing = os.pipe()
        child = os.fork()
        if child == 0:
            run(shim, request, writing)
        os.close(writing)
        _, status = os.waitpid(child, 0)
        with open(reading, "rb") as answer:
            calls, modules = json.loads(answer.read() or b"[0, []]")
        learn(modules)
        print(json.dumps([os.waitstatus_to_exitcode(status), calls]), flush=True)  # noqa: T201


def learn(modules: list[str]) -> None:
    """Load what a child had to load for itself, so that the next one is born with it, and with nothing else."""
    for name in modules:
        with contextlib.suppress(ImportError):
            importlib.import_module(name)
        KNOWN.add(name)
    if modules:
        gc.collect()
        gc.freeze()


serve(sys.argv[1])
