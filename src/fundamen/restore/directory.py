"""The step that changes an entry of a directory: what its attributes were is kept, and given back when it is undone.

A change is one operation of the directory, made whole or not at all. It is made only where the attributes are what they
were when the plan was made, and taken back only where they are still ours. All that the entry held is kept as LDIF too.
The password stands nowhere: whoever carries a step out is asked for it. Source: RFC 4511; RFC 2849 (LDIF).
"""

import base64
import os
from collections.abc import Iterator, Mapping
from contextlib import contextmanager

from fundamen.directories.connection import Attributes, Login, Place, open_directory
from fundamen.model.errors import FundamenError, RestorationError, UnreadableError
from fundamen.model.paths import HostPath, MachinePath, shown
from fundamen.placing.own_files import write_whole
from fundamen.restore.asked_password import PASSWORD
from fundamen.restore.plan_file import SetDirectoryEntry
from fundamen.restore.records import DirectoryRecord, Site
from fundamen.restore.steps import ChangeEntry

_LDIF_WIDTH = 76
_SAFE = frozenset(range(0x20, 0x7F))


def plan_entry_change(step: SetDirectoryEntry) -> ChangeEntry | None:
    """The step that changes an entry; None where it is as wanted.

    Raises:
        RestorationError: there is no such entry, or it is not as the plan expects it.
        UnreadableError: the directory cannot be asked.
        UntrustedError: a password would go over a connection that others can read.
    """
    place = Place(step.server, step.port, step.tls, step.roots)
    with open_directory(place, _login(place, step.login)) as directory:
        held = directory.read(step.entry)
    if held is None:
        raise RestorationError(
            what="The plan does not fit the directory",
            why=f"{place.title} has no entry {shown(step.entry)}",
            do="Nothing was changed. See how the directory is: fundamen authority check",
        )
    wanted = {name: tuple(sorted(value.encode() for value in values)) for name, values in step.texts.items()}
    wanted |= {name: tuple(sorted(values)) for name, values in step.contents.items()}
    before = {name: _values(held, name) for name in wanted}
    if before == wanted:
        return None
    for name, expected in step.expects.items():
        if _values(held, name) != tuple(sorted(expected)):
            raise RestorationError(
                what="The plan no longer fits the directory",
                why=f"{name} of {shown(step.entry)} has changed since the plan was made",
                do="Nothing was changed. Make the plan anew.",
            )
    return ChangeEntry(
        path=MachinePath(step.path),
        because=step.because or "it is not as it should be",
        place=place,
        login=step.login,
        entry=step.entry,
        before=before,
        after=wanted,
    )


def keep(step: ChangeEntry, site: Site, kept_folder: HostPath, number: int) -> DirectoryRecord:
    """Keep all of the entry as LDIF, and write down what is to be done. Raises: OSError, UnreadableError."""
    with open_directory(step.place, _login(step.place, step.login)) as directory:
        held = directory.read(step.entry)
    if held is None or any(_values(held, name) != values for name, values in step.before.items()):
        raise OSError(0, "the entry has changed since it was looked at", step.entry)
    kept = os.path.join(kept_folder, f"{number}.ldif")
    write_whole(kept, ldif(step.entry, held))
    return DirectoryRecord(
        path=step.path,
        server=step.place.server,
        port=step.place.port,
        tls=step.place.tls,
        roots=step.place.roots,
        login=step.login,
        entry=step.entry,
        before=_written(step.before),
        after=_written(step.after),
        kept=site.as_kept(kept),
    )


def change(record: DirectoryRecord) -> None:
    """Change it, and see that the directory has taken it. Raises: OSError, UnreadableError."""
    if not is_changed(record):
        _move(record, record.before, record.after)


def is_changed(record: DirectoryRecord) -> bool:
    """Whether the entry is as wanted. Raises: OSError, UnreadableError: the directory cannot be asked."""
    return _now(record) == record.after


def give_back(record: DirectoryRecord) -> None:
    """Give the entry the attributes that it had, if it has ours. Raises: OSError, UnreadableError."""
    if _now(record) != record.before:
        _move(record, record.after, record.before)


def obstacle(record: DirectoryRecord) -> str:
    """Why it can be neither made nor taken back; empty where it can."""
    return "" if _now(record) in (record.before, record.after) else "the entry has been changed by somebody else"


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


def _now(record: DirectoryRecord) -> dict[str, tuple[str, ...]]:
    place = _place(record)
    with _as_os_errors(record), open_directory(place, _login(place, record.login)) as directory:
        held = directory.read(record.entry)
    if held is None:
        raise OSError(0, "the entry is gone", record.entry)
    return _written({name: _values(held, name) for name in record.after})


def _move(record: DirectoryRecord, expected: dict[str, tuple[str, ...]], wanted: dict[str, tuple[str, ...]]) -> None:
    place = _place(record)
    if _now(record) != expected:
        raise OSError(0, "the entry has been changed by somebody else", record.entry)
    changes = {name: tuple(map(base64.b64decode, values)) for name, values in wanted.items()}
    with _as_os_errors(record), open_directory(place, _login(place, record.login)) as directory:
        directory.replace(record.entry, changes)
    if _now(record) != wanted:
        raise OSError(0, "the directory made something else of it", record.entry)


@contextmanager
def _as_os_errors(record: DirectoryRecord) -> Iterator[None]:
    """What stops a step is told as every step tells it: an error that has the restoration taken back."""
    try:
        yield
    except UnreadableError:
        raise
    except FundamenError as error:
        raise OSError(0, f"{error.what}: {error.why}", record.entry) from error


def _place(record: DirectoryRecord) -> Place:
    return Place(record.server, record.port, record.tls, record.roots)


def _login(place: Place, name: str) -> Login:
    ask = PASSWORD.get()
    if ask is None:
        raise UnreadableError(
            what=f"The directory {place.title} is not changed",
            why=f"nobody said the password of {shown(name)}",
            do="Name a file that holds it: --login-password FILE",
        )
    return Login(name, ask(place.title, name))


def _values(held: Attributes, name: str) -> tuple[bytes, ...]:
    """The values of an attribute, in an order of their own: a directory gives them in any."""
    found = next((values for each, values in held.items() if each.lower() == name.lower()), ())
    return tuple(sorted(found))


def _written(attributes: Mapping[str, tuple[bytes, ...]]) -> dict[str, tuple[str, ...]]:
    return {name: tuple(base64.b64encode(v).decode("ascii") for v in sorted(vs)) for name, vs in attributes.items()}
