"""The step that changes an entry of a directory: what its attributes were is kept, and given back when it is undone.

A change is one operation of the directory, made whole or not at all. It is made only where the attributes are what they
were when the plan was made, and undone only where they are still ours. All that the entry held is kept as LDIF too.
The password is stored nowhere: the user who runs the step is asked for it. Source: RFC 4511; RFC 2849 (LDIF).
"""

import base64
import hashlib
import os
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from typing import Annotated

import msgspec

from fundamen.changes.base import Keeping, Password, Record, Site, Step, Tell
from fundamen.changes.form import Form, Part, PlanResolution, Text
from fundamen.directories.connection import Attributes, DirectoryConnection, DirectoryPlace, Login, open_directory
from fundamen.messages import UNSAID, Message, say
from fundamen.model.display import printable
from fundamen.model.errors import FundamenError, RestorationError, UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.placing.own_files import write_whole

_LDIF_WIDTH = 76
_SAFE = frozenset(range(0x20, 0x7F))


class DirectoryRecord(Record, frozen=True, kw_only=True, tag_field="kind", tag="directory"):
    """An entry of a directory (LDAP) gets other attributes. The password stands nowhere."""

    undone = "as before"
    is_on_machine = False

    server: str
    port: int
    tls: bool
    roots: str  # the host path of certificates that its chain may end in; empty for those that this host trusts
    login: str  # the name as whom it is changed
    entry: str  # its distinguished name
    before: dict[str, tuple[str, ...]]  # the values of each attribute that is changed, in Base64, sorted
    after: dict[str, tuple[str, ...]]  # likewise
    kept: str  # where all that the entry held is kept, as LDIF

    def make(self, site: Site, _tell: Tell) -> None:
        """Change it, and see that the directory has taken it."""
        if not self.is_made(site):
            self._move(site, self.before, self.after)

    def is_made(self, site: Site) -> bool:
        """Whether the entry is as wanted. Raises: UnreadableError: the directory cannot be asked."""
        return self._now(site) == self.after

    def take_back(self, site: Site) -> None:
        """Give the entry the attributes that it had, if it has ours."""
        if self._now(site) != self.before:
            self._move(site, self.after, self.before)

    def obstacle(self, site: Site) -> Message:
        """Reason why it can be neither made nor undone; empty if it can."""
        return (
            UNSAID
            if self._now(site) in (self.before, self.after)
            else say("changes.someone-else-has-changed-the-entry")
        )

    def kept_at(self, site: Site) -> str:
        """Where all that the entry held is kept."""
        return site.kept_path(self.kept)

    def _now(self, site: Site) -> dict[str, tuple[str, ...]]:
        with self._open_directory(site) as directory:
            held = directory.read(self.entry)
        if held is None:
            raise OSError(0, say("changes.the-entry-is-gone"), self.entry)
        return _encode_values({name: _values(held, name) for name in self.after})

    def _move(self, site: Site, expected: dict[str, tuple[str, ...]], wanted: dict[str, tuple[str, ...]]) -> None:
        if self._now(site) != expected:
            raise OSError(0, say("changes.someone-else-has-changed-the-entry"), self.entry)
        changes = {name: tuple(map(base64.b64decode, values)) for name, values in wanted.items()}
        with self._open_directory(site) as directory:
            directory.replace(self.entry, changes)
        if self._now(site) != wanted:
            raise OSError(0, say("changes.the-directory-made-something-else-of"), self.entry)

    @contextmanager
    def _open_directory(self, site: Site) -> Iterator[DirectoryConnection]:
        """The directory. What stops a step is raised as by every step: as an error that has all undone."""
        place = DirectoryPlace(self.server, self.port, self.tls, self.roots)
        try:
            with open_directory(place, _login(site.password, place, self.login)) as directory:
                yield directory
        except UnreadableError:
            raise
        except FundamenError as error:
            raise OSError(0, f"{error.what}: {error.why}", self.entry) from error


class ChangeEntry(Step, frozen=True, kw_only=True):
    """One step: an entry of a directory gets other attributes."""

    verb = "change"
    replaces = True

    directory: DirectoryPlace
    login: str  # the name as whom it is changed
    entry: str
    before: Attributes  # of those that are changed, each attribute's values sorted
    after: Attributes

    @property
    def preview_details(self) -> tuple[str, ...]:
        """Details for a preview."""
        return tuple(_in_words(name, self.before, self.after) for name in self.after)

    @property
    def brings_certificate(self) -> bool:
        """Whether it gives an authority another certificate. Source: RFC 4523."""
        return any("certificate" in name.lower() for name in self.after)

    def keep(self, keeping: Keeping) -> DirectoryRecord:
        """Keep all of the entry as LDIF, and write down what is to be done. Raises: OSError, UnreadableError."""
        with open_directory(self.directory, _login(keeping.site.password, self.directory, self.login)) as directory:
            held = directory.read(self.entry)
        if held is None or any(_values(held, name) != values for name, values in self.before.items()):
            raise OSError(0, say("changes.the-entry-has-changed-since-it"), self.entry)
        kept = os.path.join(keeping.kept_folder, f"{keeping.number}.ldif")
        write_whole(kept, ldif(self.entry, held))
        return DirectoryRecord(
            path=self.path,
            server=self.directory.server,
            port=self.directory.port,
            tls=self.directory.tls,
            roots=self.directory.roots,
            login=self.login,
            entry=self.entry,
            before=_encode_values(self.before),
            after=_encode_values(self.after),
            kept=keeping.site.as_kept(kept),
        )


def plan_entry_change(step: "SetDirectoryEntry", password: Password | None) -> ChangeEntry | None:
    """The step that changes an entry; None where it is as wanted.

    Raises:
        RestorationError: there is no such entry, or it is not as the plan expects it.
        UnreadableError: the directory cannot be asked.
        UntrustedError: a password would go over a connection that others can read.
    """
    place = DirectoryPlace(step.server, step.port, step.tls, step.roots)
    with open_directory(place, _login(password, place, step.login)) as directory:
        held = directory.read(step.entry)
    if held is None:
        raise RestorationError(
            what=say("changes.the-plan-does-not-fit-the"),
            why=say("changes.has-no-entry", title=place.title, entry=printable(step.entry)),
            do=say("changes.nothing-was-changed-see-how-the"),
        )
    wanted = {name: tuple(sorted(value.encode() for value in values)) for name, values in step.texts.items()}
    wanted |= {name: tuple(sorted(values)) for name, values in step.contents.items()}
    before = {name: _values(held, name) for name in wanted}
    if before == wanted:
        return None
    for name, expected in step.expects.items():
        if _values(held, name) != tuple(sorted(expected)):
            raise RestorationError(
                what=say("changes.the-plan-no-longer-fits-the"),
                why=say("changes.of-has-changed-since-the-plan", name=name, entry=printable(step.entry)),
                do=say("changes.nothing-was-changed-make-a-new"),
            )
    return ChangeEntry(
        path=MachinePath(step.path),
        because=step.because or say("changes.it-is-not-as-it-should"),
        directory=place,
        login=step.login,
        entry=step.entry,
        before=before,
        after=wanted,
    )


def ldif(entry: str, attributes: Mapping[str, tuple[bytes, ...]]) -> bytes:
    """An entry as LDIF, to be read by people and by every directory's tools. Source: RFC 2849."""
    lines = [_line("dn", entry.encode())]
    lines += [_line(name, value) for name, values in attributes.items() for value in values]
    return b"version: 1\n" + b"".join(lines)


def _line(name: str, value: bytes) -> bytes:
    is_safe = set(value) <= _SAFE and not value.startswith((b" ", b":", b"<")) and not value.endswith(b" ")
    text = f"{name}: {value.decode('ascii')}" if is_safe else f"{name}:: {base64.b64encode(value).decode('ascii')}"
    rest = range(_LDIF_WIDTH, len(text), _LDIF_WIDTH - 1)  # a line that goes on begins with a blank
    pieces = [text[:_LDIF_WIDTH], *(text[at : at + _LDIF_WIDTH - 1] for at in rest)]
    return "\n ".join(pieces).encode() + b"\n"


def _login(password: Password | None, place: DirectoryPlace, name: str) -> Login:
    if password is None:
        raise UnreadableError(
            what=say("changes.the-directory-is-not-changed", title=place.title),
            why=say("changes.no-password-was-given-for", name=printable(name)),
            do=say("changes.name-a-file-that-holds-it"),
        )
    return Login(name, password(place.title, name))


def _values(held: Attributes, name: str) -> tuple[bytes, ...]:
    """The values of an attribute, in an order of their own: a directory gives them in any."""
    found = next((values for each, values in held.items() if each.lower() == name.lower()), ())
    return tuple(sorted(found))


def _encode_values(attributes: Mapping[str, tuple[bytes, ...]]) -> dict[str, tuple[str, ...]]:
    return {name: tuple(base64.b64encode(v).decode("ascii") for v in sorted(vs)) for name, vs in attributes.items()}


class SetDirectoryEntry(Form, frozen=True, kw_only=True, tag="set directory entry"):
    """Attributes of an entry of a directory (LDAP) get other values; the path is only for people."""

    server: Part
    entry: Annotated[str, msgspec.Meta(min_length=1, max_length=4096)]  # its distinguished name
    login: Annotated[str, msgspec.Meta(min_length=1, max_length=4096)]  # as whom; the password is asked for
    port: Annotated[int, msgspec.Meta(ge=1, le=65535)] = 389
    tls: bool = False
    roots: Text = ""  # a file of certificates that the directory's chain may end in
    texts: Annotated[dict[Part, tuple[Text, ...]], msgspec.Meta(max_length=100)] = msgspec.field(default_factory=dict)
    contents: dict[Part, tuple[bytes, ...]] = msgspec.field(default_factory=dict)  # of binary attributes; in Base64
    expects: dict[Part, tuple[bytes, ...]] = msgspec.field(default_factory=dict)  # what attributes are now; in Base64

    @property
    def title(self) -> Message:
        """Title for the history."""
        return say("changes.the-entry", entry=self.entry)

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        change = plan_entry_change(self, resolving.means.password)
        if change is not None:
            resolving.steps[f"entry {self.server} {self.entry}"] = change


def _in_words(attribute: str, before: Attributes, after: Attributes) -> Message:
    """An attribute of an entry before and after; of what is no text only its SHA-256."""
    old, new = (_describe_values(each.get(attribute, ())) for each in (before, after))
    return say("changes.from-to", attribute=attribute, old=old, new=new)


def _describe_values(values: Sequence[bytes]) -> str:
    texts = [v.decode() if v.isascii() and v.decode().isprintable() else _digest(v) for v in values]
    return ", ".join(texts) or "nothing"


def _digest(value: bytes) -> Message:
    return say("changes.bytes-with-sha-256", count=len(value), digest=hashlib.sha256(value).hexdigest()[:16])
