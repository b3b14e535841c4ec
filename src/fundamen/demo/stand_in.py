"""A stand-in for the outside world: serves a folder over HTTPS on this host, with faults on order.

It is what the demo's technician reaches the harbour's source by, and what tests attack with. It answers ranges as RFC
9110, section 14, has it, and has a certificate of its own for localhost, issued by an authority of its own.
"""

import os
import ssl
import tempfile
import threading
import time
from collections.abc import Callable, Mapping
from datetime import UTC, datetime, timedelta
from enum import Enum, auto
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from types import TracebackType
from typing import Self
from urllib.parse import unquote, urlsplit

from cryptography import x509
from cryptography.hazmat.primitives import hashes
from cryptography.hazmat.primitives.asymmetric import ec
from cryptography.hazmat.primitives.serialization import Encoding, NoEncryption, PrivateFormat
from cryptography.x509.oid import ExtendedKeyUsageOID, NameOID

_PIECE = 1 << 18  # bytes
_SLOW_PIECE, _SLOW_SECONDS = 16, 0.2
_LIFE = timedelta(days=30)


class Fault(Enum):
    """Faults of an answer."""

    MISSING = auto()  # status 404
    FAILING = auto()  # status 503
    CUT = auto()  # the connection ends half-way, every time
    CUT_ONCE = auto()  # the connection ends half-way, the first time
    SLOW = auto()  # some bytes a second
    SILENT = auto()  # no answer at all
    SLOW_HEAD = auto()  # the head of the answer comes byte by byte
    MOVED = auto()  # it passes on, and answers there
    TO_HTTP = auto()  # it passes on to an address without TLS
    ALTERED = auto()  # one byte is another
    ENDLESS = auto()  # it does not end
    WITHOUT_RANGES = auto()  # the whole file, whatever was asked for


class StandIn:
    """A server that is up within a ``with`` block.

    Attributes:
        address: where the folder is served.
        authority: the certificate in PEM of the issuer of the server's.
        asked: the paths that were asked for, in order, with the first byte.
    """

    def __init__(
        self, folder: Path, faults: Mapping[str, Fault] | None = None, *, names: tuple[str, ...] = ("localhost",)
    ) -> None:
        """Prepare to serve.

        Args:
            folder: what is served.
            faults: what goes wrong, by the end of the path.
            names: of the server, in its certificate.
        """
        self.faults = dict(faults or {})
        self.asked: list[tuple[str, int]] = []
        self.folder = folder
        self.authority, certificate = _certificates(names)
        handler = type("_BoundHandler", (_Handler,), {"stand_in": self})
        self._server = _Server(("127.0.0.1", 0), handler)
        context = ssl.SSLContext(ssl.PROTOCOL_TLS_SERVER)
        with tempfile.NamedTemporaryFile("w", suffix=".pem") as file:
            file.write(certificate)
            file.flush()
            context.load_cert_chain(file.name)
        self._server.socket = context.wrap_socket(self._server.socket, server_side=True, do_handshake_on_connect=False)
        self.port = self._server.server_address[1]
        self.address = f"https://localhost:{self.port}"
        self._thread = threading.Thread(target=self._server.serve_forever, args=(0.05,), daemon=True)

    def __enter__(self) -> Self:
        self._thread.start()
        return self

    def __exit__(self, _type: type[BaseException] | None, _e: BaseException | None, _t: TracebackType | None) -> None:
        self._server.shutdown()
        self._server.server_close()

    def fault_of(self, path: str) -> Fault | None:
        """The fault set for a path; a fault that happens once is then forgotten."""
        for ending, fault in self.faults.items():
            if path.endswith(ending):
                if fault is Fault.CUT_ONCE:
                    del self.faults[ending]
                return fault
        return None


class _Server(ThreadingHTTPServer):
    daemon_threads = True
    block_on_close = False

    def handle_error(self, request: object, client_address: object) -> None:
        """A client that goes away is no fault of ours."""


class _Handler(BaseHTTPRequestHandler):
    stand_in: StandIn
    protocol_version = "HTTP/1.1"
    disable_nagle_algorithm = True  # else a small body waits until the head is acknowledged

    def log_message(self, format: str, *args: object) -> None:  # noqa: A002 - the library's own name
        """The tests ask what was asked for; there is no log."""

    def do_GET(self) -> None:
        """Answer with a file of the folder, or with the fault that was ordered."""
        path = unquote(urlsplit(self.path).path).lstrip("/")
        begin = self._begin()
        self.stand_in.asked.append((path, begin))
        fault = self.stand_in.fault_of(path)
        target = os.path.realpath(self.stand_in.folder / path)
        if not target.startswith(os.path.realpath(self.stand_in.folder) + os.sep) or not os.path.isfile(target):
            fault = Fault.MISSING
        if fault in {Fault.MISSING, Fault.FAILING}:
            self.send_response(404 if fault is Fault.MISSING else 503)
            self.send_header("Content-Length", "0")
            self.end_headers()
        elif fault is Fault.SILENT:
            time.sleep(60)
        elif fault is Fault.SLOW_HEAD:
            self._trickle()
        elif fault is Fault.TO_HTTP or (fault is Fault.MOVED and "moved" not in self.path):
            address = f"{self.stand_in.address}/{path}?moved"
            self.send_response(302)
            self.send_header("Location", address.replace("https:", "http:") if fault is Fault.TO_HTTP else address)
            self.send_header("Content-Length", "0")
            self.end_headers()
        else:
            self._send(target, 0 if fault is Fault.WITHOUT_RANGES else begin, fault)

    def _trickle(self) -> None:
        for byte in b"HTTP/1.1 200 OK\r\nX-Tide: " + b"ebb" * 1000:
            self.wfile.write(bytes([byte]))
            self.wfile.flush()
            time.sleep(_SLOW_SECONDS)

    def _begin(self) -> int:
        asked = self.headers.get("Range", "")
        begin = asked.removeprefix("bytes=").partition("-")[0]
        return int(begin) if asked.startswith("bytes=") and begin.isdecimal() else 0

    def _send(self, target: str, begin: int, fault: Fault | None) -> None:
        size = os.path.getsize(target)
        if begin >= size > 0:
            self.send_response(416)
            self.send_header("Content-Range", f"bytes */{size}")
            self.send_header("Content-Length", "0")
            self.end_headers()
            return
        self.send_response(206 if begin else 200)
        if begin:
            self.send_header("Content-Range", f"bytes {begin}-{size - 1}/{size}")
        if fault is not Fault.ENDLESS:
            self.send_header("Content-Length", str(size - begin))
        self.end_headers()
        with open(target, "rb") as file:
            file.seek(begin)
            self._send_body(file.read, size - begin, fault)

    def _send_body(self, read: Callable[[int], bytes], left: int, fault: Fault | None) -> None:
        half = left // 2
        sent = 0
        while data := read(_SLOW_PIECE if fault is Fault.SLOW else _PIECE):
            piece = data
            if fault is Fault.ALTERED and sent <= half < sent + len(piece):
                piece = piece[: half - sent] + bytes([piece[half - sent] ^ 1]) + piece[half - sent + 1 :]
            if fault in {Fault.CUT, Fault.CUT_ONCE} and sent + len(piece) > half:
                self.wfile.write(piece[: half - sent])
                self.close_connection = True
                return
            self.wfile.write(piece)
            sent += len(piece)
            if fault is Fault.SLOW:
                self.wfile.flush()
                time.sleep(_SLOW_SECONDS)
        while fault is Fault.ENDLESS:
            self.wfile.write(bytes(_PIECE))
        self.close_connection = fault is not None


def _certificates(names: tuple[str, ...]) -> tuple[str, str]:
    """(the authority's certificate, the server's with its key), all in PEM."""
    now = datetime.now(UTC)
    authority_key, key = ec.generate_private_key(ec.SECP256R1()), ec.generate_private_key(ec.SECP256R1())
    issuer = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, "Marram Sound Test Authority")])
    subject = x509.Name([x509.NameAttribute(NameOID.COMMON_NAME, names[0])])

    def built(
        name: x509.Name, own: ec.EllipticCurvePrivateKey, extensions: list[x509.ExtensionType]
    ) -> x509.Certificate:
        builder = (
            x509.CertificateBuilder()
            .subject_name(name)
            .issuer_name(issuer)
            .public_key(own.public_key())
            .serial_number(x509.random_serial_number())
            .not_valid_before(now - timedelta(days=1))
            .not_valid_after(now + _LIFE)
            .add_extension(x509.SubjectKeyIdentifier.from_public_key(own.public_key()), critical=False)
            .add_extension(
                x509.AuthorityKeyIdentifier.from_issuer_public_key(authority_key.public_key()), critical=False
            )
        )
        for extension in extensions:
            builder = builder.add_extension(extension, critical=isinstance(extension, x509.BasicConstraints))
        return builder.sign(authority_key, hashes.SHA256())

    authority = built(issuer, authority_key, [x509.BasicConstraints(ca=True, path_length=0)])
    server = built(
        subject,
        key,
        [
            x509.SubjectAlternativeName([x509.DNSName(name) for name in names]),
            x509.ExtendedKeyUsage([ExtendedKeyUsageOID.SERVER_AUTH]),
        ],
    )
    private = key.private_bytes(Encoding.PEM, PrivateFormat.PKCS8, NoEncryption())
    return authority.public_bytes(Encoding.PEM).decode(), (server.public_bytes(Encoding.PEM) + private).decode()
