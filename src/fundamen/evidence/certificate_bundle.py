"""Put together the bundle of trusted certificates of a Debian machine, out of the certificates that it has.

Programs that do not read the certificates one by one read this file. No package brings it: it is made from the list
of accepted certificates. Source: update-ca-certificates(8), "FILES".
"""

from collections.abc import Iterator

from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

BUNDLE = MachinePath("/etc/ssl/certs/ca-certificates.crt")
_ACCEPTED = MachinePath("/etc/ca-certificates.conf")
_SHARED = MachinePath("/usr/share/ca-certificates")
_LOCAL = MachinePath("/usr/local/share/ca-certificates")
_MOST_LIST, _MOST_CERTIFICATE = 1 << 20, 1 << 20  # bytes
_MOST_CERTIFICATES = 5000


def bundle_of(machine: Machine) -> bytes:
    """The bundle as it should be; empty where the machine has no list of accepted certificates, or none of them."""
    pieces = []
    for path in _certificates(machine):
        try:
            data = machine.content(path, _MOST_CERTIFICATE)
        except UnreadableError:
            continue
        pieces.append(data if data.endswith(b"\n") or not data else data + b"\n")
    return b"".join(pieces)


def _certificates(machine: Machine) -> Iterator[MachinePath]:
    if machine.look(_ACCEPTED).kind is not EntryKind.FILE:
        return
    text = machine.content(_ACCEPTED, _MOST_LIST).decode("utf-8", "replace")
    accepted = [line for line in text.splitlines() if line and line[0] not in "#!"]
    paths = [machine.join(_SHARED, line) for line in accepted[:_MOST_CERTIFICATES]]
    if machine.look(_LOCAL).kind is EntryKind.FOLDER:
        paths += [machine.join(_LOCAL, name) for name in machine.names(_LOCAL) if name.endswith(".crt")]
    for path in paths:
        is_inside = path.startswith((f"{_SHARED}/", f"{_LOCAL}/"))
        if is_inside and machine.look(path).kind is EntryKind.FILE:
            yield path
