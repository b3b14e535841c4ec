"""The packager's side of toolchains: each part as a package of a source, the catalogue as a document beside them."""

import os

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UntrustedError, UsageError
from fundamen.model.package import Base, Package, PackageFile
from fundamen.model.paths import HostPath
from fundamen.sources.layout import DocumentKind, document_path, place_parts
from fundamen.sources.publishing import Publication, Signing, publish_contents, publish_documents
from fundamen.sources.reference import Recorded, read_entries
from fundamen.toolchains.catalogue import CataloguePart, Toolchain, catalogue_bytes

_SAID = "the packager, who took it in as the publisher's"


def publish_toolchain(
    location: HostPath, folder: HostPath, toolchain: Toolchain, signing: Signing
) -> tuple[Publication, ...]:
    """Take a clean toolchain into a source, and its catalogue with it. Parts of which nothing lies there are left out.

    Args:
        location: the source's folder.
        folder: the clean toolchain, or its part for one host.
        toolchain: its catalogue.
        signing: with which keys, and for how long.

    Raises:
        UntrustedError: a file of the folder is not as the catalogue lists it.
        UsageError: the folder has nothing of it, the publisher is not said, or a name cannot be used.
        UnreadableError: a file or key cannot be read, or the source cannot be written.
    """
    document = document_path(DocumentKind.TOOLCHAIN, f"{toolchain.name}-{toolchain.version}.json".replace(" ", "-"))
    if not toolchain.publisher:
        raise UsageError(
            what=say("toolchains.cannot-be-published", title=toolchain.title),
            why=say("toolchains.its-catalogue-does-not-say-whose"),
            do=say("toolchains.write-it-in-publisher"),
        )
    taken = []
    for part in toolchain.parts:
        places = [place for place, file in part.files.items() if file.sha256]
        found = read_entries(folder, places)
        if places and any(found.values()):
            taken.append((_package(toolchain, part, found), [(f, _at(folder, f.place)) for f in _files(part)]))
    if not taken:
        raise UsageError(
            what=say("toolchains.cannot-be-published", title=toolchain.title),
            why=say("toolchains.has-no-file-that-its-catalogue", folder=printable(folder)),
            do=say("toolchains.name-the-folder-of-the-clean"),
        )
    publications = publish_contents(location, taken, signing)
    publish_documents(location, {document: catalogue_bytes(toolchain)}, signing)
    return publications


def _package(toolchain: Toolchain, part: CataloguePart, found: dict[str, Recorded | None]) -> Package:
    """A part as a package, once all of its files were compared. Raises: UntrustedError."""
    for place, entry in found.items():
        if entry is None or entry.sha256 != part.files[place].sha256:
            raise UntrustedError(
                what=say("toolchains.is-not-published", title=toolchain.title),
                why=say(
                    "toolchains.of-its-part-is",
                    place=printable(place),
                    name=part.name,
                    more="missing" if entry is None else say("toolchains.not-as-listed"),
                ),
                do=say("toolchains.take-it-in-from-a-clean"),
            )
    return Package(
        publisher=toolchain.publisher,
        name=f"{toolchain.name} {part.name}",
        version=part.version,
        platform=part.host.platform,
        architecture=part.host.architecture,
        files=_files(part),
        is_for_developers=True,  # no program depends on it
        proven_by=_SAID,
    )


def _files(part: CataloguePart) -> tuple[PackageFile, ...]:
    files = tuple(
        PackageFile(place.rpartition("/")[2], Base.PROGRAM, place, file.size, file.sha256, file.executable)
        for place, file in part.files.items()
        if file.sha256
    )
    for file in files:
        place_parts(file)
    return files


def _at(folder: HostPath, place: str) -> HostPath:
    return HostPath(os.path.join(folder, *place.split("/")))
