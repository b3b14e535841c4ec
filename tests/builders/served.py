"""Real servers on loopback, run for a test."""

import contextlib
import socket
import subprocess
import time
from collections.abc import Iterator


def a_free_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as server:
        port: int = server.getsockname()[1]
    return port


@contextlib.contextmanager
def served(port: int, *command: str) -> Iterator[None]:
    """Run a server until it answers at its port, and end it afterwards."""
    with subprocess.Popen(command, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL) as process:
        try:
            for _ in range(200):
                with contextlib.suppress(OSError), socket.create_connection(("127.0.0.1", port), 1):
                    break
                time.sleep(0.05)
            yield
        finally:
            process.terminate()
