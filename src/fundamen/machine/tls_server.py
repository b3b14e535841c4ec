"""Ask a TLS server for its certificates, believing nothing of them. Source: RFC 8446, section 4.4.2 (and RFC 5246)."""

import socket
import ssl
from typing import Any

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError

_SECONDS = 15


def fetch_certificates(host: str, port: int, seconds: float = _SECONDS) -> tuple[bytes, ...]:
    """The certificates that a server shows, its own first, in DER.

    Raises:
        UnreadableError: it cannot be reached, or does not speak TLS.
    """
    context = ssl.SSLContext(ssl.PROTOCOL_TLS_CLIENT)
    context.check_hostname = False  # what it shows is to be judged, not to be refused unseen
    context.verify_mode = ssl.CERT_NONE
    context.set_ciphers("ALL:@SECLEVEL=0")
    try:
        with (
            socket.create_connection((host.strip("[]"), port), timeout=seconds) as connection,
            context.wrap_socket(connection, server_hostname=host.strip("[]")) as server,
        ):
            return _shown_by(server)
    except (OSError, ValueError) as error:
        reason = getattr(error, "reason", "") or getattr(error, "strerror", "") or str(error)
        raise UnreadableError(
            what=say("machine.the-server-does-not-show-its", host=printable(host), port=port),
            why=str(reason).replace("_", " ").lower() if isinstance(error, ssl.SSLError) else str(reason),
            do=say("machine.see-that-the-name-and-the"),
        ) from error


def _shown_by(server: ssl.SSLSocket) -> tuple[bytes, ...]:
    """All that the server sent. Python gives it openly from 3.13 on, before that by the socket's inner object."""
    inner: Any = server if hasattr(server, "get_unverified_chain") else getattr(server, "_sslobj", None)
    if not hasattr(inner, "get_unverified_chain"):
        own = server.getpeercert(binary_form=True)
        return (own,) if own else ()
    chain = inner.get_unverified_chain() or ()
    return tuple(each if isinstance(each, bytes) else _der(each) for each in chain)


def _der(certificate: Any) -> bytes:  # noqa: ANN401 - Python's own inner type
    return ssl.PEM_cert_to_DER_cert(certificate.public_bytes())
