"""A proxy for HTTPS on this host: it joins connections and remembers for whom (RFC 9110, section 9.3.6)."""

import contextlib
import socket
import threading
from collections.abc import Callable
from types import TracebackType
from typing import Self


class AProxy:
    """Up within a ``with`` block."""

    def __init__(self) -> None:
        self.asked: set[tuple[str, str]] = set()  # (host and port, the login)
        self._listening = socket.create_server(("127.0.0.1", 0))
        self._threads: list[threading.Thread] = []
        self.port: int = self._listening.getsockname()[1]

    def __enter__(self) -> Self:
        threading.Thread(target=self._serve, daemon=True).start()
        return self

    def __exit__(self, _type: type[BaseException] | None, _e: BaseException | None, _t: TracebackType | None) -> None:
        self._listening.shutdown(socket.SHUT_RDWR)
        self._listening.close()
        for thread in self._threads:
            thread.join()

    def _serve(self) -> None:
        with contextlib.suppress(OSError):  # it is over
            while True:
                client, _ = self._listening.accept()
                self._begin(self._join, client)

    def _join(self, client: socket.socket) -> None:
        head = b""
        while b"\r\n\r\n" not in head:
            head += client.recv(4096)
        first, *lines = head.decode().split("\r\n")
        login = next((line.partition(": ")[2] for line in lines if line.lower().startswith("proxy-auth")), "")
        target = first.split(" ")[1]
        self.asked.add((target, login))
        host, _, port = target.rpartition(":")
        with client, socket.create_connection((host, int(port))) as server:
            client.sendall(b"HTTP/1.1 200 OK\r\n\r\n")
            back = self._begin(_pass_on, server, client)
            _pass_on(client, server)
            back.join()

    def _begin(self, work: Callable[..., None], *sockets: socket.socket) -> threading.Thread:
        thread = threading.Thread(target=work, args=sockets, daemon=True)
        self._threads.append(thread)
        thread.start()
        return thread


def _pass_on(one: socket.socket, other: socket.socket) -> None:
    with contextlib.suppress(OSError):
        while data := one.recv(1 << 16):
            other.sendall(data)
        other.shutdown(socket.SHUT_WR)
