"""The packager's side: take a publisher's files in, describe them, and sign the catalogue.

What is signed, and with which keys, is the affair of ``repository``.
"""

import hashlib
import os
import re
from collections.abc import Iterator, Mapping, Sequence
from datetime import datetime

import msgspec

from fundamen.formats.binary import read_binary
from fundamen.formats.unix.elf import Elf
from fundamen.machine.file_bytes import FileBytes
from fundamen.messages import say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.binary import Binary, BinaryKind
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UntrustedError, UsageError
from fundamen.model.package import NEUTRAL, UNKNOWN_PUBLISHER, UNKNOWN_VERSION, Base, Package, PackageFile
from fundamen.model.paths import HostPath
from fundamen.placing.own_files import copy_whole
from fundamen.sources.artefacts import find_artefacts
from fundamen.sources.layout import content_path, place_parts
from fundamen.sources.media import Media
from fundamen.sources.media_identity import Stated, read_place
from fundamen.sources.publisher_files import look_at, why_no_artefact
from fundamen.sources.repository import Repository, identity_of

_MOST_FILES = 100_000
_SAID = "the packager, who took it in as the publisher's"


class PublishedIdentity(msgspec.Struct, frozen=True):
    """The packager's statements on a package; other facts are read from the files."""

    publisher: str
    name: str
    version: str
    language: str = NEUTRAL
    vouched: str = ""  # why files are taken in that no publisher has signed; technicians see it


class Publication(msgspec.Struct, frozen=True):
    """The published package, and the fingerprint for technicians."""

    package: Package
    fingerprint: str
    expires_at: datetime


class Signing(msgspec.Struct, frozen=True):
    """How a source is signed."""

    keys: tuple[HostPath, ...]  # the packager's key folders
    expires_at: datetime  # when the signatures over the catalogue end
    thresholds: dict[str, int] = {}  # of a new source: how many keys a role has
    replaces: str = ""  # why a package takes the place of another with the same name and version; technicians see it


class Given(msgspec.Struct, frozen=True):
    """The packager's statements on packages; empty where they may state it themselves."""

    publisher: str = ""
    name: str = ""
    version: str = ""
    language: str = ""

    def complete(self, package: Package, stated: Stated | None = None) -> Package:
        """A package with what was given; what an install package says of itself stays.

        Raises:
            UsageError: neither says whose it is, or in which version; or what it says is contradicted.
        """
        if stated is not None:
            _require_version(package.name, stated.version, self.version)
            if stated.architecture is not None and not package.architecture.is_of_set(stated.architecture):
                raise UsageError(
                    what=say("sources.is-not-published", title=package.title),
                    why=say(
                        "sources.it-says-that-it-is-for",
                        processor=printable(stated.processor),
                        architecture=package.architecture,
                    ),
                    do=say("sources.ask-its-publisher-for-a-package"),
                )
        complete = msgspec.structs.replace(
            package,
            publisher=self.publisher or package.publisher,
            name=(stated and stated.name) or self.name or package.name,
            version=self.version or package.version,
            language=self.language or package.language,
        )
        unsaid = {
            "--publisher": complete.publisher == UNKNOWN_PUBLISHER,
            "--version": complete.version == UNKNOWN_VERSION,
        }
        missing = [option for option, is_unsaid in unsaid.items() if is_unsaid]
        if missing:
            raise UsageError(
                what=say("sources.cannot-be-published", name=printable(package.name)),
                why=say("sources.it-does-not-say-itself-whose"),
                do=say("sources.say-so-with", missing=" and ".join(missing)),
            )
        return complete


def publish(
    location: HostPath, media: HostPath, identity: PublishedIdentity, place: str, signing: Signing
) -> Publication:
    """Take a folder of a publisher's files into a source as one package, and sign the catalogue again.

    A source that is not there yet is made, and with it the keys.

    Args:
        location: the source's folder.
        media: the folder with the publisher's files; subfolders keep their shape below ``place``.
        identity: whose package it is.
        place: where the files belong: ``{program}``, ``{system}`` or ``{root}``, then a path, such as
            ``{program}/../lib``.
        signing: with which keys, and for how long.

    Raises:
        UntrustedError: a publisher's signature is broken, or there is none and no statement of the packager.
        UsageError: the place is none, the files are not for one platform and architecture, or state another version.
        UnreadableError: a file or key cannot be read, or the source cannot be written.
    """
    package = describe(media, identity, place)
    contents = zip(package.files, _files_below(media), strict=True)
    [publication] = publish_contents(location, [(package, list(contents))], signing)
    return publication


def publish_packages(location: HostPath, media: Media, given: Given, signing: Signing) -> tuple[Publication, ...]:
    """Take what publishers' packages and media hold into a source, each unit as a package, and sign again.

    Whose they are, in which version, for what and where their files belong is read from the packages themselves.

    Args:
        location: the source's folder.
        media: packages, archives, disc images.
        given: what the packager says where a package does not, or says it better.
        signing: with which keys, and for how long.

    Raises:
        UntrustedError: a package is not proven.
        UsageError: a package does not say what it must, and neither does the packager; or there are none.
        UnreadableError: a medium or key cannot be read, or the source cannot be written.
    """
    found = media.packages()
    if not found:
        raise UsageError(
            what=say("sources.nothing-can-be-published"),
            why=say("sources.the-media-hold-no-program-and"),
            do=say("sources.name-the-publisher-package-or-a"),
        )
    for package in found:
        if package.unproven is not None:
            raise UntrustedError(
                what=say("sources.is-not-published", title=package.title),
                why=package.unproven,
                do=say("sources.use-media-that-the-publisher-has"),
            )
    packages = [given.complete(package, media.stated_by(package)) for package in found]
    _require_apart(packages)
    taken = [(package, [(file, media.content_of(file)) for file in package.files]) for package in packages]
    return publish_contents(location, taken, signing)


def publish_artefacts(location: HostPath, place: HostPath, publisher: str, signing: Signing) -> tuple[Publication, ...]:
    """Take a wheel, source archive or npm tarball, or all of a folder, in, each as a package under its name.

    What a name says is compared with what is inside; whose they are is what the packager says.

    Raises:
        UntrustedError: one is damaged, or is not what its name says.
        UsageError: there are none.
        UnreadableError: a file or key cannot be read, or the source cannot be written.
    """
    taken = []
    for artefact in find_artefacts([place]):
        named = artefact.name
        why_not = why_no_artefact(artefact)
        if why_not:
            raise UntrustedError(
                what=say("sources.is-not-published", title=printable(artefact.path)),
                why=why_not,
                do=say("sources.download-it-again-from-its-publisher"),
            )
        file = _describe_file(artefact.path, None, Base.PROGRAM, os.path.basename(artefact.path))
        package = Package(
            publisher, named.project, named.version, named.platform, named.architecture, (file,), proven_by=_SAID
        )
        taken.append((package, [(file, artefact.path)]))
    if not taken:
        raise UsageError(
            what=say("sources.cannot-be-published", name=printable(place)),
            why=say("sources.it-is-no-wheel-source-archive"),
            do=say("sources.name-such-a-file-or-the"),
        )
    return publish_contents(location, taken, signing)


def publish_contents(
    location: HostPath, taken: Sequence[tuple[Package, Sequence[tuple[PackageFile, HostPath]]]], signing: Signing
) -> tuple[Publication, ...]:
    """Take described packages in: store the content of each, then sign; until then no one sees any of it.

    Raises:
        UnreadableError: a file or key cannot be read, is not as it was described, or the source cannot be written.
    """
    try:
        for _, contents in taken:
            for file, path in contents:
                _take_in(path, file, content_path(location, file.sha256))
        repository = Repository(location, signing.keys, signing.expires_at, signing.thresholds)
        repository.add(*(package for package, _ in taken), because=signing.replaces)
        return tuple(Publication(package, repository.fingerprint(), signing.expires_at) for package, _ in taken)
    except OSError as error:
        raise _unwritable(location, error) from error


def _unwritable(location: HostPath, error: OSError) -> UnreadableError:
    return UnreadableError(
        what=say("sources.the-source-cannot-be-published-to", location=printable(location)),
        why=f"{error.filename}: {error.strerror}",
        do=say("sources.make-the-folder-writable-and-make"),
    )


def publish_documents(location: HostPath, documents: Mapping[str, bytes], signing: Signing) -> str:
    """Take documents into a source, sign the catalogue again, and give the source's fingerprint.

    Args:
        location: the source's folder.
        documents: content by ``layout.document_path``; each takes the place of one of its path.
        signing: with which keys, and for how long.

    Raises:
        UnreadableError: a key cannot be read, or the source cannot be written.
    """
    try:
        repository = Repository(location, signing.keys, signing.expires_at, signing.thresholds)
        repository.carry(documents)
        return repository.fingerprint()
    except OSError as error:
        raise _unwritable(location, error) from error


def describe(media: HostPath, identity: PublishedIdentity, place: str) -> Package:
    """Describe a folder of a publisher's files as a package, from what the files themselves say.

    Raises:
        UsageError: there are no files, the place is none, or they are not for one platform and architecture.
    """
    base, below = read_place(place)
    files: list[PackageFile] = []
    targets: set[tuple[Platform, Architecture]] = set()
    unsigned: list[HostPath] = []
    stated: set[str] = set()
    for path in _files_below(media):
        binary = _binary(path)
        looked_at = look_at(path, binary)
        if looked_at.why_not:
            raise UntrustedError(
                what=say("sources.is-not-published", title=printable(path)),
                why=looked_at.why_not,
                do=say("sources.take-the-publisher-files-in-from"),
            )
        unsigned += [path] if binary is not None and not looked_at.is_signed else []
        stated |= {looked_at.version} - {""}
        if binary is not None:
            platform = Platform.LINUX if isinstance(binary, Elf) else Platform.WINDOWS
            targets.add((platform, binary.architecture))
        files.append(_describe_file(path, binary, base, "/".join(filter(None, (below, _relative(path, media))))))
    # Code for any processor may lie beside code for one, and ARM64EC beside ARM64.
    targets = {
        each for each in targets if not any(each != of and each[1].is_of_set(of[1]) for of in targets)
    } or targets
    if files and not targets:  # nothing but data
        targets = {(Platform.ANY, Architecture.ANY)}
    if len(targets) != 1 or len(files) > _MOST_FILES:
        found = ", ".join(sorted(f"{platform} {architecture}" for platform, architecture in targets)) or "no file"
        raise UsageError(
            what=say("sources.cannot-be-published-as-one-package", media=printable(media)),
            why=say("sources.its-files-must-be-for-one", found=found),
            do=say("sources.publish-each-platform-and-architecture-from"),
        )
    [(platform, architecture)] = targets
    _require_vouched(unsigned, identity)
    if len(stated) == 1:  # all files that state a version of their product state this one
        _require_version(identity.name, stated.pop(), identity.version)
    return Package(
        proven_by=say("sources.the-packager", vouched=identity.vouched) if unsigned else "",
        publisher=identity.publisher,
        name=identity.name,
        version=identity.version,
        platform=platform,
        architecture=architecture,
        files=tuple(files),
        language=identity.language,
    )


def _require_vouched(unsigned: Sequence[HostPath], identity: PublishedIdentity) -> None:
    if unsigned and not identity.vouched.strip():
        more = say("sources.and-more", count=len(unsigned) - 1) if len(unsigned) > 1 else ""
        raise UntrustedError(
            what=say(
                "sources.is-not-published-name-version",
                name=printable(identity.name),
                version=printable(identity.version),
            ),
            why=say("sources.no-publisher-has-signed", file=printable(os.path.basename(unsigned[0])), more=more),
            do=say("sources.compare-the-files-with-what-their"),
        )


def _require_version(name: str, version: str, given: str) -> None:
    numbers, said = (re.findall(r"\d+", each.rpartition(":")[2]) for each in (version, given))
    if numbers and said and [n.lstrip("0") for n in numbers][: len(said)] != [n.lstrip("0") for n in said]:
        raise UsageError(
            what=say("sources.cannot-be-published-name-given", name=printable(name), given=printable(given)),
            why=say("sources.its-files-state-that-they-are", version=printable(version)),
            do=say("sources.say-version-or-take-in-the", version=printable(version)),
        )


def _require_apart(packages: Sequence[Package]) -> None:
    """See that no two packages of one medium would take each other's place."""
    known: dict[str, Package] = {}
    for package in packages:
        other = known.setdefault(identity_of(package), package)
        if {file.sha256 for file in other.files} != {file.sha256 for file in package.files}:
            raise UsageError(
                what=say("sources.the-packages-of-the-medium-cannot", title=package.title),
                why=say("sources.technicians-could-not-tell-them-apart"),
                do=say("sources.publish-each-from-a-medium-or"),
            )


def _describe_file(path: HostPath, binary: Binary | None, base: Base, place: str) -> PackageFile:
    with open(path, "rb") as file:
        digest = hashlib.file_digest(file, "sha256").hexdigest()
    described = PackageFile(
        name=(binary.name if binary is not None else None) or os.path.basename(path),
        base=base,
        place=place,
        size=os.path.getsize(path),
        sha256=digest,
        executable=binary is not None and binary.kind is BinaryKind.PROGRAM,
    )
    place_parts(described)
    return described


def _binary(path: HostPath) -> Binary | None:
    """The file as a program or library; None where it is neither."""
    with FileBytes(path, path) as source:
        try:
            return read_binary(source)
        except UnreadableError:
            return None


def _files_below(folder: HostPath) -> Iterator[HostPath]:
    for parent, folders, names in os.walk(folder):
        folders.sort()
        for name in sorted(names):
            path = os.path.join(parent, name)
            if os.path.isfile(path) and not os.path.islink(path):
                yield HostPath(path)


def _relative(path: HostPath, folder: HostPath) -> str:
    return os.path.relpath(path, folder).replace(os.sep, "/")


def _take_in(path: HostPath, file: PackageFile, target: HostPath) -> None:
    """Store a file's bytes under their digest, unless they are there. Raises: OSError: they have changed meanwhile."""
    if not os.path.exists(target) and copy_whole(path, target, file.size + 1) != file.sha256:
        os.unlink(target)
        raise OSError(0, say("sources.it-changed-while-it-was-being"), path)
