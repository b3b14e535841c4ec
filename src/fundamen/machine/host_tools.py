"""Run a tool of this host, such as its package manager or compiler, so that it answers in plain English."""

import errno
import logging
import os
import shlex
import shutil
import subprocess
from collections.abc import Sequence

from fundamen.messages import say
from fundamen.model.timing import log_time

_LOG = logging.getLogger(__name__)
_PLAIN = ("LC_ALL=C", "LANGUAGE=C")  # POSIX, "Environment Variables": what tools then say is theirs, untranslated


def run_tool(
    command: Sequence[str],
    seconds: float,
    folder: str | None = None,
    *,
    apart: bool = False,
    stderr: int = subprocess.PIPE,
    errors: str = "replace",
    **variables: str,
) -> "subprocess.CompletedProcess[str]":
    """Run a tool without input until it ends. It inherits the environment of this process.

    Args:
        command: the tool and its words.
        seconds: the time limit.
        folder: the tool's current folder; default: ours.
        apart: whether a Ctrl-C at our terminal is not to reach it.
        stderr: where its standard error goes, as subprocess names it.
        errors: what becomes of bytes that are not UTF-8, as ``bytes.decode`` names it.
        variables: further variables of its environment.

    Raises:
        FileNotFoundError: there is no such tool.
        OSError: it cannot be run, or has not ended in time.
    """
    tool, *words = command
    path = os.path.join(folder or "", tool) if os.sep in tool else tool
    if "=" in tool or shutil.which(path) is None:  # env(1) takes a word with "=" for a variable
        raise FileNotFoundError(errno.ENOENT, os.strerror(errno.ENOENT), tool)
    env = shutil.which("env")  # none on Windows, where these variables change nothing
    settings = [*_PLAIN, *(f"{name}={value}" for name, value in variables.items())]
    try:
        with log_time(_LOG, "running %s", shlex.join(command)):
            return subprocess.run(
                [*((env, *settings) if env is not None else ()), tool, *words],
                cwd=folder,
                stdin=subprocess.DEVNULL,
                stdout=subprocess.PIPE,
                stderr=stderr,
                encoding="utf-8",
                errors=errors,
                timeout=seconds,
                check=False,
                start_new_session=apart,
            )
    except subprocess.TimeoutExpired as error:
        raise TimeoutError(
            errno.ETIMEDOUT, say("machine.it-has-not-ended-in-seconds", seconds=seconds), tool
        ) from error
