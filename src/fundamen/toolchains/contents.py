"""Each file of a toolchain's folder against what the catalogues of its versions list."""

from collections import Counter
from collections.abc import Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from functools import cmp_to_key

import msgspec

from fundamen.formats.versions import compare
from fundamen.loaders.architectures import startable_architectures
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.toolchains.catalogue import CataloguePart, Host, PartFile, Toolchain

_MOST_ENTRIES = 1_000_000
# Of a part, the verdict of its worst file; the first of these that any file has.
_WORST_FIRST = (Verdict.CORRUPT, Verdict.WRONG_ARCHITECTURE, Verdict.OUTDATED, Verdict.MISSING, Verdict.BLOCKED)


class ToolchainFile(msgspec.Struct, frozen=True):
    """One file of a part that is not as the catalogue lists it."""

    place: str  # below the toolchain's folder
    verdict: Verdict  # OUTDATED: it is another version's
    detail: Message
    version: str = ""  # the version whose file it is, where a catalogue tells
    sha256: str = ""  # of what is there now; empty where nothing does, or it may not be read


class PartState(msgspec.Struct, frozen=True):
    """A part of the toolchain for this host, and how it stands."""

    part: CataloguePart
    verdict: Verdict  # of its worst file; MISSING only where none of its files is there
    files: tuple[ToolchainFile, ...]  # those that are not sound


class Leftover(msgspec.Struct, frozen=True):
    """A file that only another version has."""

    place: str
    version: str


class ToolchainContents(msgspec.Struct, frozen=True):
    """The content of a toolchain's folder."""

    parts: tuple[PartState, ...]  # those for this host, in the catalogue's order
    not_built: tuple[str, ...]  # names of parts that have no build for this host
    other_hosts: tuple[str, ...]  # names of parts of another host's build that are there all the same
    leftovers: tuple[Leftover, ...]
    unlisted: int  # files that no catalogue lists; they may well be meant to be there
    versions: dict[str, int]  # how many files are of which version, by their content; most first

    @property
    def is_sound(self) -> bool:
        """Whether every part is as listed, and nothing of another version is left."""
        return not self.leftovers and all(state.verdict is Verdict.VERIFIED for state in self.parts)

    @property
    def is_mixed(self) -> bool:
        """Whether files of more than one version lie in the folder."""
        return len(self.versions) > 1


class _Origin(msgspec.Struct, frozen=True):
    """Where the catalogues list some bytes."""

    version: str
    part: str
    host: Host


def choose_version(machine: Machine, folder: MachinePath, known: Sequence[Toolchain]) -> Toolchain:
    """Of several versions the one that most files of the folder fit; of those that fit alike, the newest.

    Raises:
        UnreadableError: a file of the folder may not be read.
    """
    if len(known) == 1:
        return known[0]
    digests = _digests(machine, folder, known)

    def count_fitting(toolchain: Toolchain) -> int:
        files = (item for part in toolchain.parts for item in part.files.items())
        return sum(1 for place, file in files if file.sha256 and digests.get(place) == file.sha256)

    newest_first = sorted(known, key=cmp_to_key(_by_version), reverse=True)
    return max(newest_first, key=count_fitting)


def _by_version(one: Toolchain, other: Toolchain) -> int:
    return compare(one.version, other.version)


def examine_contents(
    machine: Machine, folder: MachinePath, toolchain: Toolchain, known: Sequence[Toolchain] = ()
) -> ToolchainContents:
    """Look at each file that a toolchain's catalogues list, and at what else lies in its folder.

    Args:
        machine: on which it stands.
        folder: where.
        toolchain: the version that it should be.
        known: catalogues of other versions of it, to name what is of them.

    Raises:
        UnreadableError: there is no such folder.
        UsageError: it holds more than any toolchain has.
    """
    if machine.look(folder).kind is not EntryKind.FOLDER:
        raise UnreadableError(
            what=say("toolchains.the-toolchain-in-cannot-be-checked", folder=printable(folder)),
            why=say("toolchains.there-is-no-such-folder"),
            do=say("toolchains.name-the-folder-that-the-toolchain"),
        )
    everyone = (toolchain, *(each for each in known if each != toolchain))
    digests = _digests(machine, folder, everyone)
    origins = _origins(everyone)
    hosts = _hosts_of(machine)
    ours = [part for part in toolchain.parts if _serves(part.host, hosts)]
    served = {part.name for part in ours}
    judge = _Judge(machine, folder, toolchain.version, digests, origins)
    states = tuple(judge.part(part) for part in ours)
    listed = {place for part in ours for place in part.files}
    others = [part for part in toolchain.parts if part not in ours]
    versions = Counter(_version(judge, toolchain, digest) for place, digest in digests.items() if digest)
    versions.pop("", None)
    foreign = {place for each in everyone for part in each.parts for place in part.files} - listed
    return ToolchainContents(
        parts=states,
        not_built=tuple(dict.fromkeys(part.name for part in others if part.name not in served)),
        other_hosts=tuple(
            dict.fromkeys(
                say("toolchains.for", name=part.name, words=part.host.in_words)
                for part in others
                if _stands(part, listed, digests)
            )
        ),
        leftovers=tuple(_leftovers(judge, toolchain, foreign, digests)),
        unlisted=_count_unlisted(machine, folder, listed | foreign),
        versions=dict(versions.most_common()),
    )


class _Judge(msgspec.Struct, frozen=True):
    machine: Machine
    folder: MachinePath
    version: str
    digests: dict[str, str | None]
    origins: dict[str, list[_Origin]]

    def part(self, part: CataloguePart) -> PartState:
        states = [self.file(part, place, file) for place, file in part.files.items()]
        wrong = [state for state in states if state.verdict is not Verdict.VERIFIED]
        verdict = next((each for each in _WORST_FIRST if any(s.verdict is each for s in wrong)), Verdict.VERIFIED)
        return PartState(part, verdict, tuple(wrong))

    def file(self, part: CataloguePart, place: str, file: PartFile) -> ToolchainFile:
        path = self.machine.join(self.folder, *place.split("/"))
        if file.link:
            return self._link(place, path, file)
        if place not in self.digests:
            return self._not_read(place, path)
        digest = self.digests[place]
        if digest is None:
            return ToolchainFile(place, Verdict.BLOCKED, say("toolchains.this-account-may-not-read-it"))
        if digest != file.sha256:
            return self._of_other_content(part, place, path, digest)
        must_run = file.executable and self.machine.platform is not Platform.WINDOWS
        if must_run and not self.machine.look(path).is_executable:
            return ToolchainFile(place, Verdict.BLOCKED, say("toolchains.no-user-may-execute-it-mode"), sha256=digest)
        return ToolchainFile(place, Verdict.VERIFIED, UNSAID)

    def _not_read(self, place: str, path: MachinePath) -> ToolchainFile:
        entry = self.machine.look(path)
        if entry.kind is EntryKind.ABSENT:
            return ToolchainFile(place, Verdict.MISSING, say("toolchains.there-is-no-such-file"))
        return ToolchainFile(place, Verdict.BLOCKED, entry.why or say("toolchains.it-is-a", kind=entry.kind))

    def _of_other_content(self, part: CataloguePart, place: str, path: MachinePath, digest: str) -> ToolchainFile:
        """Whose bytes they are, if any catalogue or the file itself tells."""
        for origin in self.origins.get(digest, ()):
            if origin.version != self.version:
                return ToolchainFile(
                    place,
                    Verdict.OUTDATED,
                    say("toolchains.it-is-that-of", version=origin.version),
                    origin.version,
                    digest,
                )
            if origin.part == part.name and origin.host != part.host:
                detail = say("toolchains.it-is-the-build-for", words=origin.host.in_words)
                return ToolchainFile(place, Verdict.WRONG_ARCHITECTURE, detail, sha256=digest)
        try:
            found = self.machine.binary(path).architecture
        except UnreadableError:
            found = Architecture.ANY
        if part.host.architecture is not Architecture.ANY and not found.serves(part.host.architecture):
            return ToolchainFile(
                place, Verdict.WRONG_ARCHITECTURE, say("toolchains.it-is-for", found=found), sha256=digest
            )
        return ToolchainFile(place, Verdict.CORRUPT, say("toolchains.its-content-is-of-no-version"), sha256=digest)

    def _link(self, place: str, path: MachinePath, file: PartFile) -> ToolchainFile:
        machine = self.machine
        target = machine.join(machine.folder_of(path), file.link)
        if machine.look(path).kind is EntryKind.ABSENT:
            return ToolchainFile(place, Verdict.MISSING, say("toolchains.the-link-to-is-not-there", link=file.link))
        if machine.real(path) != machine.real(target):
            return ToolchainFile(place, Verdict.CORRUPT, say("toolchains.it-does-not-lead-to", link=file.link))
        return ToolchainFile(place, Verdict.VERIFIED, UNSAID)


def _digests(machine: Machine, folder: MachinePath, known: Sequence[Toolchain]) -> dict[str, str | None]:
    """SHA-256 of every listed file that is there, by place; None where it may not be read. Each is read once."""
    places = {place for each in known for part in each.parts for place, f in part.files.items() if f.sha256}
    return machine.fact(folder, _read_digests, tuple(sorted(places)))


def _read_digests(machine: Machine, folder: MachinePath, places: tuple[str, ...]) -> dict[str, str | None]:
    def read(place: str) -> tuple[str, str | None] | None:
        path = machine.join(folder, *place.split("/"))
        kind = machine.look(path).kind
        if kind is not EntryKind.FILE:
            return None
        try:
            return place, machine.digest(path, "sha256")
        except UnreadableError:
            return place, None

    with ThreadPoolExecutor() as pool:
        return dict(found for found in pool.map(read, places) if found is not None)


def _origins(known: Sequence[Toolchain]) -> dict[str, list[_Origin]]:
    found: dict[str, list[_Origin]] = {}
    for toolchain in known:
        for part in toolchain.parts:
            for file in part.files.values():
                if file.sha256:
                    found.setdefault(file.sha256, []).append(_Origin(toolchain.version, part.name, part.host))
    return found


def _hosts_of(machine: Machine) -> tuple[Platform, tuple[Architecture, ...]]:
    return machine.platform, startable_architectures(machine)


def _serves(host: Host, machine: tuple[Platform, tuple[Architecture, ...]]) -> bool:
    platform, architectures = machine
    if not host.platform.serves(platform):
        return False
    return not architectures or any(host.architecture.serves(each) for each in architectures)


def _version(judge: _Judge, toolchain: Toolchain, digest: str) -> str:
    """The version that a file's content is of; its own where that has it too, empty where none has it."""
    versions = [origin.version for origin in judge.origins.get(digest, ())]
    return toolchain.version if toolchain.version in versions else (versions[0] if versions else "")


def _leftovers(
    judge: _Judge, toolchain: Toolchain, foreign: set[str], digests: dict[str, str | None]
) -> Iterator[Leftover]:
    for place in sorted(foreign):
        version = _version(judge, toolchain, digests.get(place) or "")
        if version not in {"", toolchain.version}:
            yield Leftover(place, version)


def _stands(part: CataloguePart, listed: set[str], digests: dict[str, str | None]) -> bool:
    """Whether a build for another host lies there, at places that no part for this host has."""
    return any(place not in listed and digests.get(place) == file.sha256 for place, file in part.files.items())


def _count_unlisted(machine: Machine, folder: MachinePath, listed: set[str]) -> int:
    """How many files no catalogue lists. Raises: UsageError: there are more than any toolchain has."""
    waiting, seen, count = [(machine.real(folder), "")], 0, 0
    while waiting:
        here, above = waiting.pop()
        for name in machine.names(here):
            seen += 1
            if seen > _MOST_ENTRIES:
                raise UsageError(
                    what=say("toolchains.the-toolchain-in-cannot-be-checked", folder=printable(folder)),
                    why=say("toolchains.its-folder-holds-more-than-entries", most_entries=_MOST_ENTRIES),
                    do=say("toolchains.name-the-toolchain-own-folder"),
                )
            path, place = machine.join(here, name), f"{above}{name}"
            kind = machine.look(path).kind
            if kind is EntryKind.FOLDER and machine.real(path) == path:
                waiting.append((path, f"{place}/"))
            elif kind is not EntryKind.FOLDER and place not in listed:
                count += 1
    return count
