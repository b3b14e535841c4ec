"""Debian's package database as an authority: whose file it is, and the MD5 digest that its package recorded.

Source: dpkg(1), "FILES"; deb-md5sums(5); dpkg-divert(1). The digests are MD5, so they tell damage and not an attacker's
work; the database itself is believed as the machine's administrator left it.
"""

from collections.abc import Sequence

from fundamen.evidence.authority import Says, Subject, Testimony, file_digest
from fundamen.machine.machine import Machine
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_FOLDER = "/var/lib/dpkg"
_SPEAKER = "dpkg"
_DIGEST_SIZE = 32  # hexadecimal digits of MD5; two blanks follow, then the path without its first slash
_MOST_BYTES = 64 << 20


class DpkgAuthority:
    """Speaks about every file that an installed Debian package recorded a digest for."""

    def testify(self, machine: Machine, subjects: Sequence[Subject]) -> dict[MachinePath, Testimony]:
        """Compare the files that some installed package owns with the digests it recorded."""
        if machine.platform is not Platform.LINUX or not subjects:
            return {}
        recorded = _recorded_digests(machine, {s.path: _spellings(machine, s.path) for s in subjects})
        versions = _versions(machine, {package for package, _ in recorded.values()})
        testimonies = {}
        for path, (package, expected) in recorded.items():
            found = file_digest(machine, path, "md5")
            if found is not None:
                title = f"{package.partition(':')[0]} {versions.get(package, '')}".rstrip()
                detail = f"package {title}"
                if found != expected:
                    detail = f"differs from package {title} (MD5 {found[:8]}..., not {expected[:8]}...)"
                testimonies[path] = Testimony(_SPEAKER, Says.RIGHT if found == expected else Says.WRONG, detail)
        return testimonies


def _spellings(machine: Machine, path: MachinePath) -> list[str]:
    """How a package may have spelled the path: with or without /usr, where the machine has merged the two."""
    real = machine.real(path)
    other = real.removeprefix("/usr") if real.startswith("/usr/") else "/usr" + real
    return [real, other]


def _recorded_digests(machine: Machine, wanted: dict[MachinePath, list[str]]) -> dict[MachinePath, tuple[str, str]]:
    """Package (as its list files are named) and MD5 for those wanted paths that a package recorded."""
    diverted_to, diverted_by = _diversions(machine)
    by_line: dict[bytes, MachinePath] = {}
    for path, spellings in wanted.items():
        for spelling in spellings:
            recorded_as = diverted_to.get(spelling, spelling)
            by_line[recorded_as.lstrip("/").encode("utf-8", "surrogateescape")] = path
    found: dict[MachinePath, tuple[str, str]] = {}
    for package, content in _digest_lists(machine):
        start = _DIGEST_SIZE + 2
        hits = [line for line in content.split(b"\n") if line[start:] in by_line]
        for line in hits:
            path = by_line[line[start:]]
            spelling = "/" + line[start:].decode("utf-8", "surrogateescape")
            owner = diverted_by.get(spelling)
            was_diverted_away = owner is not None and owner != package.partition(":")[0]
            if was_diverted_away == (machine.real(path) not in {spelling, *_spellings(machine, MachinePath(spelling))}):
                found[path] = (package, line[:_DIGEST_SIZE].decode("ascii", "replace"))
    return found


def _digest_lists(machine: Machine) -> list[tuple[str, bytes]]:
    folder = MachinePath(_FOLDER + "/info")
    try:
        names = [name for name in machine.names(folder) if name.endswith(".md5sums")]
    except UnreadableError:
        return []
    return [(n.removesuffix(".md5sums"), _content(machine, MachinePath(f"{folder}/{n}"))) for n in names]


def _diversions(machine: Machine) -> tuple[dict[str, str], dict[str, str]]:
    """Where diverted files now lie -> where their package put them; and the latter -> who diverted them."""
    lines = _content(machine, MachinePath(_FOLDER + "/diversions")).decode("utf-8", "surrogateescape").splitlines()
    triples = list(zip(lines[::3], lines[1::3], lines[2::3], strict=False))
    return {to: path for path, to, _ in triples}, {path: by for path, _, by in triples}


def _versions(machine: Machine, packages: set[str]) -> dict[str, str]:
    """The installed version of each package, as the status file has it."""
    if not packages:
        return {}
    status = b"\n\n" + _content(machine, MachinePath(_FOLDER + "/status"))
    versions = {}
    for package in packages:
        name, _, architecture = package.encode("utf-8", "surrogateescape").partition(b":")
        at = status.find(b"\n\nPackage: " + name + b"\n")
        while at >= 0:
            stanza = status[at + 2 : status.find(b"\n\n", at + 2)]
            fields = dict(line.split(b": ", 1) for line in stanza.split(b"\n") if b": " in line)
            if not architecture or fields.get(b"Architecture") == architecture:
                versions[package] = fields.get(b"Version", b"").decode("utf-8", "replace")
                break
            at = status.find(b"\n\nPackage: " + name + b"\n", at + 2)
    return versions


def _content(machine: Machine, path: MachinePath) -> bytes:
    """A file of the database; empty where it cannot be read, for then the database does not speak."""
    try:
        with machine.open(path) as source:
            return source.read_at(0, min(source.size, _MOST_BYTES))
    except UnreadableError:
        return b""
