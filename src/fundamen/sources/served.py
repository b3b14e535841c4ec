"""A source that is served over HTTPS: resumable, bounded in time, through the proxy that this host names.

TLS only keeps others from looking on and from cutting in: what makes the bytes believed are the catalogue's signatures.
"""

import logging
import os
import ssl
import threading
import time
from collections.abc import Iterator, Mapping
from functools import lru_cache
from types import TracebackType
from urllib.parse import quote, urljoin, urlsplit
from urllib.request import getproxies, proxy_bypass

import msgspec
import urllib3

from fundamen.messages import Message, as_said, say
from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.sources.place import NotThereError, SlowError, UnreachableError

_LOG = logging.getLogger(__name__)

_FIRST_PIECE, _PIECE = 1 << 14, 1 << 18  # bytes
_QUICK_SECONDS = 0.1
_NOT_FOUND, _GONE, _PARTIAL, _OK, _RANGE_NOT_SATISFIABLE = 404, 410, 206, 200, 416
_TRIES = 2  # more of each connection that fails before anything was sent
_MOST_REDIRECTS = 3
_SCHEME = "https://"
_REFUSED = "sources.the-server-certificate-is-refused"


class Patience(msgspec.Struct, frozen=True):
    """How long a server is waited for."""

    connect_seconds: float = 10.0
    silent_seconds: float = 20.0  # between two pieces
    grace_seconds: float = 15.0  # for each piece, besides what the rate allows it
    least_rate: int = 2048  # bytes a second


PATIENCE = Patience()


class ServedPlace:
    """A source at an address."""

    def __init__(self, address: str, authority: str = "", patience: Patience | None = None) -> None:
        """Prepare to ask; nothing is asked yet.

        Args:
            address: begins with https://.
            authority: further certificates in PEM that the server's chain may end in.
            patience: how long the server is waited for.
        """
        self.title = printable(address)
        self._address = address
        self._patience = patience or PATIENCE
        self._pool = _pool(address, authority)

    def open(self, relative: str, offset: int = 0) -> "_ServedPieces":
        """Ask for a file. Raises: NotThereError, UnreachableError."""
        address = f"{self._address}/{quote(relative)}"
        headers = {"Accept-Encoding": "identity", **({"Range": f"bytes={offset}-"} if offset else {})}
        response = self._answer(relative, address, headers)
        for _ in range(_MOST_REDIRECTS):
            further = response.get_redirect_location()
            if not further:
                break
            response.close()
            address = urljoin(address, further)
            if not address.startswith(_SCHEME):
                raise self._unreachable(relative, say("sources.it-passes-on-to-which-is", address=printable(address)))
            response = self._answer(relative, address, headers)
        if response.status in {_NOT_FOUND, _GONE}:
            response.release_conn()
            raise NotThereError(
                what=say("sources.cannot-be-brought-in", relative=printable(relative)),
                why=say("sources.has-no-such-file-status", title=self.title, status=response.status),
                do=say("sources.see-that-the-address-is-right"),
            )
        if response.status == _RANGE_NOT_SATISFIABLE and offset:
            response.release_conn()
            return self.open(relative)
        if response.status not in {_OK, _PARTIAL}:
            response.release_conn()
            raise self._unreachable(
                relative, say("sources.the-server-answers-with-status", status=response.status, reason=response.reason)
            )
        _LOG.debug("GET %s from byte %d: status %d", address, offset, response.status)
        begins_at = offset if response.status == _PARTIAL and _starts_at(response, offset) else 0
        return _ServedPieces(response, begins_at, self, relative)

    def _answer(self, relative: str, address: str, headers: Mapping[str, str]) -> urllib3.BaseHTTPResponse:
        """The head of an answer, waited for only so long, however its bytes trickle in. Raises: UnreachableError."""
        patience = self._patience
        timeout = urllib3.Timeout(connect=patience.connect_seconds, read=patience.silent_seconds)
        answers: list[urllib3.BaseHTTPResponse | Exception] = []

        def ask() -> None:
            try:
                answers.append(
                    self._pool.request(
                        "GET", address, headers=headers, timeout=timeout, preload_content=False, redirect=False
                    )
                )
            except Exception as error:  # noqa: BLE001 - it is raised again where the answer is waited for
                answers.append(error)

        asking = threading.Thread(target=ask, daemon=True)
        asking.start()
        asking.join((_TRIES + 1) * patience.connect_seconds + patience.silent_seconds + patience.grace_seconds)
        if not answers:
            raise SlowError(
                what=say("sources.cannot-be-brought-in-from", relative=printable(relative), title=self.title),
                why=say("sources.it-gives-fewer-bytes-a-second"),
                do=say("sources.try-again-later-or-name-another"),
            )
        [answer] = answers
        if isinstance(answer, urllib3.exceptions.HTTPError | OSError | ValueError):
            raise self._unreachable(relative, _reason(answer)) from answer
        if isinstance(answer, Exception):
            raise answer
        return answer

    def _unreachable(self, relative: str, why: Message) -> UnreachableError:
        return UnreachableError(
            what=say("sources.cannot-be-brought-in-from", relative=printable(relative), title=self.title),
            why=why,
            do=say(
                "sources.name-the-authority-of-the-server"
                if why.code == _REFUSED
                else "sources.see-that-the-server-is-reached"
            ),
        )


class _ServedPieces:
    def __init__(self, response: urllib3.BaseHTTPResponse, offset: int, place: ServedPlace, relative: str) -> None:
        self.offset = offset
        self._response = response
        self._place = place
        self._relative = relative

    def __iter__(self) -> Iterator[bytes]:
        is_whole = False
        watch = _Watch(self._response, self._place._patience)  # noqa: SLF001 - of this module
        try:
            with watch:
                yield from self._receive(watch)
            is_whole = True
        except (urllib3.exceptions.HTTPError, OSError) as error:
            if watch.has_ended_it:
                raise SlowError(
                    what=say(
                        "sources.cannot-be-brought-in-from", relative=printable(self._relative), title=self._place.title
                    ),
                    why=say("sources.it-gives-fewer-bytes-a-second"),
                    do=say("sources.try-again-later-or-name-another"),
                ) from error
            raise self._place._unreachable(self._relative, _reason(error)) from error  # noqa: SLF001
        finally:
            if is_whole:
                self._response.release_conn()
            else:  # what is left of it must not be taken for the answer to the next question
                self._response.close()

    def _receive(self, watch: "_Watch") -> Iterator[bytes]:
        """Pieces that grow as long as they come quickly: large ones cost little, small ones show that some come."""
        size = _FIRST_PIECE
        while True:
            begun = watch.expect(size)
            piece = self._response.read(size)
            if not piece:
                return
            yield piece
            is_quick = time.monotonic() - begun < _QUICK_SECONDS
            size = min(2 * size, _PIECE) if is_quick else max(size // 2, _FIRST_PIECE)


class _Watch:
    """Ends an answer of which a piece has not come in time: reading alone would wait as long as a byte trickles in."""

    def __init__(self, response: urllib3.BaseHTTPResponse, patience: Patience) -> None:
        self.has_ended_it = False
        self._response = response
        self._patience = patience
        self._deadline = float("inf")
        self._done = threading.Event()
        self._thread = threading.Thread(target=self._work, daemon=True)

    def __enter__(self) -> None:
        self._thread.start()

    def __exit__(self, _type: type[BaseException] | None, _e: BaseException | None, _t: TracebackType | None) -> None:
        self._done.set()

    def expect(self, size: int) -> float:
        """Say that a piece of at most so many bytes is waited for from now on, and give this moment."""
        now = time.monotonic()
        self._deadline = now + self._patience.grace_seconds + size / self._patience.least_rate
        return now

    def _work(self) -> None:
        while not self._done.wait(min(1.0, self._patience.grace_seconds)):
            if time.monotonic() > self._deadline:
                self.has_ended_it = True
                self._response.shutdown()
                return


@lru_cache(8)  # reading the host's own certificates takes longer than asking a server
def _context(authority: str) -> ssl.SSLContext:
    """Whom to believe: the host's own certificates, and an authority's in PEM. Raises: UsageError: it has none."""
    context = ssl.create_default_context()
    if authority:
        try:
            context.load_verify_locations(cadata=authority)
        except (ssl.SSLError, ValueError) as error:
            raise UsageError(
                what=say("sources.the-authority-certificates-cannot-be-used"),
                why=say("sources.what-was-given-holds-no-certificate"),
                do=say("sources.name-a-file-of-certificates-authority"),
            ) from error
    return context


def _pool(address: str, authority: str) -> urllib3.PoolManager:
    context = _context(authority)
    retries = urllib3.Retry(total=None, connect=_TRIES, read=1, redirect=0, status=0, other=0, backoff_factor=0.2)
    proxy = getproxies().get("https")
    if proxy is None or proxy_bypass(urlsplit(address).hostname or ""):
        return urllib3.PoolManager(ssl_context=context, retries=retries)
    if "://" not in proxy:
        proxy = f"http://{proxy}"
    login = urlsplit(proxy)
    headers = None
    if login.username:
        headers = urllib3.make_headers(proxy_basic_auth=f"{login.username}:{login.password or ''}")
    return urllib3.ProxyManager(proxy, proxy_headers=headers, ssl_context=context, retries=retries)


def _starts_at(response: urllib3.BaseHTTPResponse, offset: int) -> bool:
    """Whether a partial answer begins where it was asked to. Source: RFC 9110, section 14.4."""
    return response.headers.get("Content-Range", "").startswith(f"bytes {offset}-")


def _reason(error: BaseException) -> Message:
    """The innermost cause, in as few words as it has."""
    inner: BaseException = error
    while (
        nested := getattr(inner, "reason", None)
        if isinstance(getattr(inner, "reason", None), BaseException)
        else (inner.__cause__ or inner.__context__)
    ) is not None and nested is not inner:
        inner = nested
    if isinstance(inner, ssl.SSLCertVerificationError):
        return say(_REFUSED, error=inner.verify_message)
    if isinstance(inner, TimeoutError | urllib3.exceptions.TimeoutError):
        return say("sources.it-does-not-answer-in-time")
    if isinstance(inner, OSError) and inner.strerror:
        return as_said(os.fsdecode(inner.strerror))
    return as_said(str(inner) or type(inner).__name__)
