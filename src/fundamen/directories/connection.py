"""Ask a directory for an entry, and change one. Source: RFC 4511; RFC 4514, how names are written."""

import ipaddress
import math
import socket
import ssl
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from typing import TYPE_CHECKING

import msgspec

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UntrustedError, UsageError

if TYPE_CHECKING:
    from ldap3 import Connection

Attributes = dict[str, tuple[bytes, ...]]  # by name as the directory spells it


class UnreachableDirectoryError(UnreadableError):
    """No directory answers there."""


class DirectoryPlace(msgspec.Struct, frozen=True):
    """Where a directory answers."""

    server: str
    port: int = 389
    tls: bool = False
    roots: str = ""  # a file of certificates in PEM that its chain may end in; empty: those that this host trusts
    seconds: float = 5.0  # how long it is waited for

    @property
    def title(self) -> str:
        """The place in words."""
        return f"{self.server}:{self.port}"


class Login(msgspec.Struct, frozen=True):
    """As whom a directory is asked."""

    name: str  # a distinguished name
    password: str


class DirectoryConnection:
    """An open connection to a directory."""

    def __init__(self, connection: "Connection", title: str) -> None:
        """Take a connection that is bound."""
        self._connection = connection
        self._title = title
        self.nearest = ""  # of an entry that was not found: the last one above it that is there

    def read(self, entry: str) -> Attributes | None:
        """An entry's attributes; None where there is no such entry.

        Raises:
            UnreadableError: the directory does not say.
        """
        self._connection.search(entry, "(objectClass=*)", "BASE", attributes=["*"])
        result = self._connection.result
        if result["description"] == "noSuchObject":
            self.nearest = result["dn"]
            return None
        found = [each for each in self._connection.response or () if each["type"] == "searchResEntry"]
        if result["result"] != 0 or not found:
            raise self._refusal(say("directories.the-entry-cannot-be-read", entry=printable(entry)), result)
        return {name: tuple(values) for name, values in found[0]["raw_attributes"].items()}

    def replace(self, entry: str, attributes: Mapping[str, tuple[bytes, ...]]) -> None:
        """Give an entry other values, all at once; an attribute without values is taken away.

        Raises:
            UnreadableError: the directory refuses it, and has changed nothing.
        """
        import ldap3  # noqa: PLC0415 - it is loaded already

        changes = {name: [(ldap3.MODIFY_REPLACE, list(values))] for name, values in attributes.items()}
        modify: Callable[..., bool] = self._connection.modify
        if not modify(entry, changes):
            raise self._refusal(
                say("directories.the-entry-cannot-be-changed", entry=printable(entry)), self._connection.result
            )

    def _refusal(self, what: str, result: Mapping[str, object]) -> UnreadableError:
        message = f" ({printable(str(result['message']))})" if result.get("message") else ""
        return UnreadableError(
            what=what,
            why=say("directories.says", title=self._title, description=result["description"], message=message),
            do=say("directories.ask-the-directory-administrator-for-the"),
        )


@contextmanager
def open_directory(place: DirectoryPlace, login: Login | None = None) -> Iterator[DirectoryConnection]:
    """Connect to a directory, without a name where no login is given.

    Raises:
        UnreachableDirectoryError: nothing answers there, or no directory does.
        UntrustedError: a password would go over a connection that others can read.
        UnreadableError: it does not let us in.
        UsageError: the library for directories is not installed.
    """
    try:
        import ldap3  # noqa: PLC0415 - only where a directory is asked
        from ldap3.core.exceptions import LDAPException  # noqa: PLC0415
    except ImportError as error:
        raise UsageError(
            what=say("directories.the-directory-cannot-be-asked"),
            why=say("directories.it-needs-a-library-for-directories"),
            do=say("directories.install-it-pip-install-fundamen-directories"),
        ) from error
    if login is not None and not place.tls and not _is_this_host(place.server):
        raise UntrustedError(
            what=say("directories.no-password-is-sent-to", title=place.title),
            why=say("directories.the-connection-is-not-encrypted"),
            do=say("directories.ask-it-over-tls-tls"),
        )
    try:  # the library would leave a connection open that is refused
        socket.create_connection((place.server, place.port), place.seconds).close()
    except OSError as error:
        raise _unreachable(place, error.strerror or str(error)) from error
    tls = ldap3.Tls(
        validate=ssl.CERT_REQUIRED if login is not None else ssl.CERT_NONE, ca_certs_file=place.roots or None
    )
    try:
        server = ldap3.Server(
            place.server, place.port, use_ssl=place.tls, tls=tls, connect_timeout=place.seconds, get_info=ldap3.NONE
        )
        connection = ldap3.Connection(
            server,
            user=login.name if login is not None else None,
            password=login.password if login is not None else None,
            receive_timeout=math.ceil(place.seconds),
            read_only=login is None,
            auto_referrals=False,
            check_names=False,
        )
        try:
            if not connection.bind():
                who = login.name if login is not None else say("directories.no-anonymous-login")
                raise UnreadableError(
                    what=say("directories.the-directory-cannot-be-asked-title", title=place.title),
                    why=say(
                        "directories.it-does-not-let-in",
                        who=printable(who),
                        description=connection.result["description"],
                    ),
                    do=say("directories.log-in-with-login-name-see"),
                )
            yield DirectoryConnection(connection, place.title)
        finally:
            connection.unbind()
    except LDAPException as error:
        raise _unreachable(place, say("directories.it-does-not-answer-as-a", error=error)) from error


def _unreachable(place: DirectoryPlace, why: str) -> UnreachableDirectoryError:
    return UnreachableDirectoryError(
        what=say("directories.the-directory-cannot-be-asked-title", title=place.title),
        why=printable(why),
        do=say("directories.see-that-it-runs-and-that"),
    )


def _is_this_host(server: str) -> bool:
    try:
        return ipaddress.ip_address(server).is_loopback
    except ValueError:
        return server == "localhost"
