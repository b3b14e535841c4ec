"""Debian's package database as an authority: whose file it is, and the MD5 digest that its package recorded.

Source: dpkg(1), "FILES"; deb-md5sums(5); dpkg-divert(1). The digests are MD5, so they tell damage and not an attacker's
work; the database itself is believed as the machine's administrator left it.
"""

from collections.abc import Iterable, Iterator, Sequence

import msgspec

from fundamen.evidence.authority import Hashing, Says, Subject, Testimony
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_FOLDER = "/var/lib/dpkg"
_SPEAKER = "dpkg"
_DIGEST_SIZE = 32  # hexadecimal digits of MD5; two blanks follow, then the path without its first slash
_NEVER_OWNED = ("/usr/local/", "/home/", "/tmp/", "/root/")  # noqa: S108 - Debian Policy, section 9.1: no package's
_MOSTLY_OWNED = ("/usr/", "/lib", "/bin/", "/sbin/")
_ALIKE = 6  # first letters that a package has in common with a library that it may well bring
_MOST_BYTES = 64 << 20
_MOST_MODE = 5  # octal digits
_FEW = 250  # files that are looked for one by one
_FEW_ASKED = 100  # files that are asked about without an index


class _Index(msgspec.Struct):
    """Recorded digests of all paths, which are written without their first slash, with the package of each."""

    first: dict[bytes, tuple[str, bytes]] = {}
    further: dict[bytes, list[tuple[str, bytes]]] = {}  # of paths that several packages have recorded

    def add(self, package: str, content: bytes) -> None:
        """Add a package's list of digests."""
        begin = _DIGEST_SIZE + 2
        recorded = {line[begin:]: (package, line[:_DIGEST_SIZE]) for line in content.split(b"\n")}
        for path in self.first.keys() & recorded.keys():
            self.further.setdefault(path, []).append(recorded.pop(path))
        self.first |= recorded

    def of(self, path: bytes) -> list[tuple[str, bytes]]:
        """Records of a path."""
        found = self.first.get(path)
        return [found, *self.further.get(path, ())] if found is not None else []


class DpkgAuthority:
    """Speaks about every file that an installed Debian package recorded a digest for.

    A caller that asks again and again is answered from an index of all that is recorded, which costs as much as a few
    answers without it.
    """

    def __init__(self) -> None:
        """Begin without having read anything."""
        self._indices: dict[Machine, _Index] = {}
        self._asked: dict[Machine, int] = {}

    def testify(self, machine: Machine, subjects: Sequence[Subject]) -> dict[MachinePath, Testimony]:
        """Compare the files that some installed package owns with the digests it recorded."""
        if machine.platform is not Platform.LINUX or not subjects:
            return {}
        ownable = [s.path for s in subjects if not s.path.startswith(_NEVER_OWNED)]
        # Nearly every file below /usr has an owner: its digest is taken while the records are looked through.
        has_database = machine.look(MachinePath(_FOLDER + "/info")).kind is EntryKind.FOLDER
        hashing = Hashing(machine, [p for p in ownable if p.startswith(_MOSTLY_OWNED)] if has_database else [], "md5")
        wanted = {path: _spellings(machine, path) for path in ownable}
        claims, index = _claims_of(machine, wanted), self._index(machine, len(wanted))
        recorded = _recorded_digests(machine, wanted, claims) if index is None else _looked_up(index, claims)
        others = Hashing(machine, [path for path in recorded if not path.startswith(_MOSTLY_OWNED)], "md5")
        versions = _versions(machine, {package for package, _ in recorded.values()})
        testimonies = {}
        for path, found in {**hashing.result(), **others.result()}.items():
            if path not in recorded:
                continue
            package, expected = recorded[path]
            title = f"{package.partition(':')[0]} {versions.get(package, '')}".rstrip()
            if found == expected:
                testimonies[path] = Testimony(_SPEAKER, Says.RIGHT, say("evidence.package", title=title), is_owner=True)
            else:
                detail = say(
                    "evidence.differs-from-package-md5-not", title=title, found=found[:8], expected=expected[:8]
                )
                testimonies[path] = Testimony(_SPEAKER, Says.WRONG, detail, is_owner=True)
        return testimonies

    def _index(self, machine: Machine, count: int) -> _Index | None:
        """Where it pays: not for the first few files, and not where what is read of the machine is taken down."""
        asked = self._asked[machine] = self._asked.get(machine, 0) + count
        if asked <= _FEW_ASKED or not machine.may_be_shared:
            return None
        index = self._indices.get(machine)
        if index is None:
            index = self._indices[machine] = _Index()
            for package, content in _digest_lists(machine, ()):
                index.add(package, content)
        return index


def _spellings(machine: Machine, path: MachinePath) -> list[str]:
    """How a package may have spelled the path: with or without /usr, where the machine has merged the two."""
    real = machine.real(path)
    other = real.removeprefix("/usr") if real.startswith("/usr/") else "/usr" + real
    return [real, other]


class _Claim(msgspec.Struct, frozen=True):
    """A wanted file, as packages may have recorded it."""

    path: MachinePath
    diverter: str | None = None  # the package that has diverted this spelling
    is_diverters: bool = False  # whether the file is the diverter's own, or the one that it put aside

    def fits(self, package: str) -> bool:
        """Whether this package's record of the spelling means this file."""
        return self.diverter is None or (package == self.diverter) == self.is_diverters


_Claims = dict[bytes, list[_Claim]]  # path as it is recorded, without its first slash


def _claims_of(machine: Machine, wanted: dict[MachinePath, list[str]]) -> _Claims:
    claims: _Claims = {}
    diversions = diversions_of(machine)
    for path, spellings in wanted.items():
        for spelling in spellings:
            for recorded_as, claim in _claims(path, spelling, diversions):
                claims.setdefault(recorded_as.lstrip("/").encode("utf-8", "surrogateescape"), []).append(claim)
    return claims


def _recorded_digests(
    machine: Machine, wanted: dict[MachinePath, list[str]], claims: _Claims
) -> dict[MachinePath, tuple[str, str]]:
    """Package (as its list files are named) and MD5 for those wanted paths that a package recorded."""
    found: dict[MachinePath, tuple[str, str]] = {}
    start = _DIGEST_SIZE + 2
    marks = _marks(list(claims))
    for package, content in _digest_lists(machine, _likely_names(wanted)):
        if len(found) == len(wanted):
            break
        if not any(mark in content for mark in marks):  # most packages: seen at a glance to own none of the files
            continue
        for line in [line for line in content.split(b"\n") if line[start:] in claims]:
            for claim in claims[line[start:]]:
                if claim.fits(package.partition(":")[0]):
                    found[claim.path] = (package, line[:_DIGEST_SIZE].decode("ascii", "replace"))
        marks = _marks([line for line, named in claims.items() if any(claim.path not in found for claim in named)])
    return found


def _looked_up(index: _Index, claims: _Claims) -> dict[MachinePath, tuple[str, str]]:
    return {
        claim.path: (package, digest.decode("ascii", "replace"))
        for line, named in claims.items()
        for package, digest in index.of(line)
        for claim in named
        if claim.fits(package.partition(":")[0])
    }


def _claims(path: MachinePath, spelling: str, diversions: list[tuple[str, str, str]]) -> Iterator[tuple[str, _Claim]]:
    """Under which names packages may have recorded a file, and which packages. Source: dpkg-divert(1)."""
    for original, diverted_to, diverter in diversions:
        if spelling == diverted_to:
            yield original, _Claim(path, diverter, is_diverters=False)
        if spelling == original:
            yield original, _Claim(path, diverter, is_diverters=True)
            return
    yield spelling, _Claim(path)


def _marks(lines: list[bytes]) -> list[bytes]:
    """A few strings, as few as may be, of which at least one is in every list that has one of these lines."""
    folders: dict[bytes, list[bytes]] = {}
    for line in lines:
        folders.setdefault(line.rpartition(b"/")[0], []).append(line)
    marks = {found[0] if len(found) == 1 else folder + b"/" for folder, found in folders.items()}
    return [mark for mark in marks if not any(other in mark and other != mark for other in marks)]


def _digest_lists(machine: Machine, likely: tuple[str, ...]) -> Iterator[tuple[str, bytes]]:
    """Each package with its list, those first whose names begin in a likely way."""
    folder = MachinePath(_FOLDER + "/info")
    names = machine.fact(folder, _names_of_digest_lists)
    alike = {name[:_ALIKE] for name in likely}
    for name in sorted(names, key=lambda name: (not name.startswith(likely), name[:_ALIKE] not in alike)):
        yield name.removesuffix(".md5sums"), _content(machine, MachinePath(f"{folder}/{name}"))


def _names_of_digest_lists(machine: Machine, folder: MachinePath) -> tuple[str, ...]:
    try:
        return tuple(name for name in machine.names(folder) if name.endswith(".md5sums"))
    except UnreadableError:
        return ()


def _likely_names(paths: Iterable[MachinePath]) -> tuple[str, ...]:
    """How the packages of some files probably begin. Source: Debian Policy, section 8.1, names of library packages."""
    stems = {path.rpartition("/")[2].partition(".so")[0].replace("_", "-").lower() for path in paths}
    return tuple(stems | {stem.removeprefix("lib") for stem in stems if stem != "lib"})


def diversions_of(machine: Machine) -> list[tuple[str, str, str]]:
    """Each diversion: where the file was, where it lies now, and the package that wanted its place."""
    lines = _content(machine, MachinePath(_FOLDER + "/diversions")).decode("utf-8", "surrogateescape").splitlines()
    return list(zip(lines[::3], lines[1::3], lines[2::3], strict=False))


class StatOverride(msgspec.Struct, frozen=True):
    """To whom a path belongs, and with which mode, whatever its package says."""

    owner: str  # a name, or ``#`` and a number
    group: str
    mode: int


def stat_overrides_of(machine: Machine) -> dict[str, StatOverride]:
    """Owners and modes that were set for some paths, whatever their package says. Source: dpkg-statoverride(1)."""
    text = _content(machine, MachinePath(_FOLDER + "/statoverride")).decode("utf-8", "surrogateescape")
    found = {}
    for line in text.split("\n"):
        owner, _, rest = line.partition(" ")
        group, _, rest = rest.partition(" ")
        mode, _, path = rest.partition(" ")
        if path.startswith("/") and 0 < len(mode) <= _MOST_MODE and not mode.strip("01234567"):
            found[path] = StatOverride(owner, group, int(mode, 8) & 0o7777)
    return found


def _versions(machine: Machine, packages: set[str]) -> dict[str, str]:
    """The installed version of each package, as the status file has it."""
    wanted = {package.partition(":")[0].encode("utf-8", "surrogateescape") for package in packages}
    versions = {}
    for stanza in _content(machine, MachinePath(_FOLDER + "/status")).split(b"\n\n") if packages else ():
        if stanza.partition(b"\n")[0].removeprefix(b"Package: ") in wanted:
            fields = dict(line.split(b": ", 1) for line in stanza.split(b"\n") if b": " in line)
            name, architecture, version = (
                fields.get(field, b"").decode("utf-8", "replace") for field in (b"Package", b"Architecture", b"Version")
            )
            versions[f"{name}:{architecture}"] = version
            versions.setdefault(name, version)
    return versions


def _content(machine: Machine, path: MachinePath) -> bytes:
    """A file of the database; empty where it cannot be read, for then the database does not speak."""
    try:
        return machine.content(path, _MOST_BYTES)
    except UnreadableError:
        return b""


class Owner(msgspec.Struct, frozen=True):
    """An installed package that has brought a file."""

    package: str
    version: str
    architecture: str  # as Debian calls it
    path: MachinePath  # of the file or link, as the package spells it


def find_listed(
    machine: Machine, paths: Iterable[MachinePath], names: Iterable[str]
) -> Iterator[tuple[str, MachinePath]]:
    """(package, path) wherever an installed package lists one of these paths, or a file or folder of such a name.

    A package is named as its list is: with its architecture, or without.
    """
    spelled = {each for path in paths for each in (path, *_spellings(machine, path))}
    marks = [(each.encode("utf-8", "surrogateescape") + b"\n", True) for each in sorted(spelled)]
    marks += [(f"/{name}\n".encode("utf-8", "surrogateescape"), False) for name in sorted(set(names)) if name]
    folder = MachinePath(_FOLDER + "/info")
    try:
        lists = [name for name in machine.names(folder) if name.endswith(".list")] if marks else []
    except UnreadableError:
        return
    for name in lists:
        content = _content(machine, MachinePath(f"{folder}/{name}"))
        for mark, is_whole in marks:
            at = content.find(mark)
            while at >= 0:
                begin, end = content.rfind(b"\n", 0, at) + 1, at + len(mark)
                if begin == at or not is_whole:
                    path = content[begin : end - 1].decode("utf-8", "surrogateescape")
                    yield name.removesuffix(".list"), MachinePath(path)
                at = content.find(mark, end)


def find_owners(machine: Machine, names: Iterable[str], paths: Iterable[MachinePath]) -> tuple[Owner, ...]:
    """The installed packages that have brought files or links of some names or at some paths, be they there or not."""
    spelled = {each for path in paths for each in (path, *_spellings(machine, path))}
    ends = tuple({f"/{name}" for name in names if name})
    folder = MachinePath(_FOLDER + "/info")
    try:
        lists = [name for name in machine.names(folder) if name.endswith(".list")]
    except UnreadableError:
        return ()
    found: dict[str, str] = {}  # package, as its list is named -> the first path
    marks = [each.encode("utf-8", "surrogateescape") + b"\n" for each in (*ends, *spelled)]
    for name in lists:
        content = _content(machine, MachinePath(f"{folder}/{name}"))
        if len(marks) <= _FEW and not any(mark in content for mark in marks):
            continue
        lines = content.decode("utf-8", "surrogateescape").split("\n")
        path = next((line for line in lines if line in spelled or line.endswith(ends)), None) if ends else None
        path = path or next((line for line in lines if line in spelled), None)
        if path is not None:
            found[name.removesuffix(".list")] = path
    installed = installed_versions(machine, set(found))
    return tuple(
        Owner(package.partition(":")[0], *installed[package], MachinePath(path))
        for package, path in found.items()
        if package in installed
    )


def installed_versions(machine: Machine, packages: set[str]) -> dict[str, tuple[str, str]]:
    """(version, architecture) of each package, named as its list is: with its architecture or without."""
    wanted = {package.partition(":")[0].encode("utf-8", "surrogateescape") for package in packages}
    found: dict[str, tuple[str, str]] = {}
    for stanza in _content(machine, MachinePath(_FOLDER + "/status")).split(b"\n\n") if packages else ():
        if stanza.partition(b"\n")[0].removeprefix(b"Package: ") in wanted:
            fields = dict(line.split(b": ", 1) for line in stanza.split(b"\n") if b": " in line)
            name, version, architecture = (
                fields.get(field, b"").decode("utf-8", "replace") for field in (b"Package", b"Version", b"Architecture")
            )
            for spelled in {name, f"{name}:{architecture}"} & packages:
                found[spelled] = (version, architecture)
    return found


def all_installed(machine: Machine) -> dict[str, list[tuple[str, str]]]:
    """(version, architecture) of each package that is wholly installed, by its name.

    Raises:
        UnreadableError: there is no database, or it may not be read.
    """
    packages: dict[str, list[tuple[str, str]]] = {}
    for fields in installed_stanzas(machine):
        found = (fields.get("Version", ""), fields.get("Architecture", ""))
        packages.setdefault(fields.get("Package", ""), []).append(found)
    return packages


def all_provided(machine: Machine) -> dict[str, list[str]]:
    """Names that installed packages provide besides their own -> versions, empty ones where none is stated.

    Source: Debian Policy, section 7.5, "Virtual packages".

    Raises:
        UnreadableError: there is no database, or it may not be read.
    """
    provided: dict[str, list[str]] = {}
    for fields in installed_stanzas(machine):
        for part in fields.get("Provides", "").split(","):
            name, _, version = part.partition("(")
            provided.setdefault(name.strip(), []).append(version.strip(" =)"))
    return provided


def installed_stanzas(machine: Machine) -> Iterator[dict[str, str]]:
    """The fields of each package that is wholly installed, each by its first line.

    Source: dpkg-query(1), the fields of the status file.
    """
    for stanza in all_stanzas(machine):
        fields = fields_of(stanza)
        if fields.get("Status", "").endswith(" ok installed"):
            yield fields


def all_stanzas(machine: Machine) -> list[str]:
    """The text of each package that the status file tells of, wholly installed or not. Raises: UnreadableError."""
    content = machine.content(MachinePath(_FOLDER + "/status"), _MOST_BYTES)
    return content.decode("utf-8", "surrogateescape").split("\n\n")


def fields_of(stanza: str) -> dict[str, str]:
    """The fields of a stanza by their first lines."""
    return dict(line.split(": ", 1) for line in stanza.split("\n") if ": " in line and line[0] != " ")
