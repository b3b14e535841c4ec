"""Read and write the catalogue of a toolchain: JSON of our own. docs/formats/toolchain.md describes it.

Guarantees: each path of a catalogue is a plain one below the toolchain's folder; parts, licences and what they come
after are all there, and lead to no ring.
"""

import re
from collections.abc import Iterator
from graphlib import CycleError, TopologicalSorter
from typing import Annotated, Literal

import msgspec

from fundamen.messages import Message, say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.display import printable
from fundamen.model.encoding import encode_json, to_plain
from fundamen.model.errors import DamagedFileError

SCHEMA = "fundamen.toolchain/1"
FOLDER = "{folder}"  # in a variable's value: where the toolchain stands
MOST_BYTES = 256 << 20  # of a catalogue
_MOST_FILES = 1_000_000
_FORBIDDEN = re.compile(r'[\\:*?"<>|\x00-\x1f\x7f]')

Word = Annotated[str, msgspec.Meta(min_length=1, max_length=200, pattern=r"^[^\x00-\x1f\x7f]+$")]
Place = Annotated[str, msgspec.Meta(min_length=1, max_length=4096)]
Sha256 = Annotated[str, msgspec.Meta(pattern="^[0-9a-f]{64}$")]


class _Record(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True):
    pass


class Host(_Record, frozen=True, kw_only=True):
    """Architecture and platform of a part's programs."""

    platform: Platform = Platform.ANY
    architecture: Architecture = Architecture.ANY

    @property
    def in_words(self) -> str:
        """As people say it: "Linux x86_64"."""
        if self.platform is Platform.ANY and self.architecture is Architecture.ANY:
            return "any host"
        return f"{self.platform.in_words} {self.architecture}"


class PartFile(_Record, frozen=True, kw_only=True):
    """One file of a part, or a symbolic link, as its publisher made it."""

    sha256: Sha256 | Literal[""] = ""  # empty for a link
    size: Annotated[int, msgspec.Meta(ge=0)] = 0  # bytes
    executable: bool = False
    link: Annotated[str, msgspec.Meta(max_length=4096)] = ""  # the target, of a link


class CataloguePart(_Record, frozen=True, kw_only=True):
    """A part of a toolchain: a compiler, a library for one target, a set of licences; one for each host."""

    name: Word
    version: Word
    host: Host = Host()
    targets: tuple[Architecture, ...] = ()  # what its output is for
    after: tuple[Word, ...] = ()  # parts that must be there before it is of use
    licence: Word | None = None  # that must be accepted before it is of use
    files: dict[Place, PartFile]  # by the path below the toolchain's folder, parted by "/"


class Licence(_Record, frozen=True, kw_only=True):
    """A licence, whose text is a file of some part."""

    name: Word
    text: Place


class Variable(_Record, frozen=True, kw_only=True):
    """A variable that the environment must have."""

    name: Annotated[str, msgspec.Meta(pattern="^[A-Za-z_][A-Za-z0-9_]{0,99}$")]
    value: Annotated[str, msgspec.Meta(max_length=4096)]  # {folder} stands for the toolchain's folder


class Toolchain(_Record, frozen=True, kw_only=True):
    """One version of a toolchain."""

    schema: Literal["fundamen.toolchain/1"] = SCHEMA  # type: ignore[assignment]
    name: Word
    version: Word
    publisher: Annotated[str, msgspec.Meta(max_length=200)] = ""
    parts: Annotated[tuple[CataloguePart, ...], msgspec.Meta(min_length=1, max_length=10_000)]
    licences: Annotated[tuple[Licence, ...], msgspec.Meta(max_length=1000)] = ()
    path: Annotated[tuple[Place, ...], msgspec.Meta(max_length=100)] = ()  # its folders that belong on PATH
    environment: Annotated[tuple[Variable, ...], msgspec.Meta(max_length=100)] = ()

    @property
    def title(self) -> str:
        """Name and version."""
        return f"{self.name} {self.version}"


def read_toolchain(data: bytes, name: str) -> Toolchain:
    """Read a catalogue.

    Args:
        data: its bytes.
        name: of the file, for messages.

    Raises:
        DamagedFileError: it is none, or says what cannot be.
    """
    try:
        toolchain = msgspec.json.decode(data, type=Toolchain)
    except (msgspec.DecodeError, ValueError, RecursionError) as error:
        raise _refusal(name, say("toolchains.it-has-not-the-form-of", schema=SCHEMA, error=error)) from error
    problem = next(_problems(toolchain), None)
    if problem is not None:
        raise _refusal(name, problem)
    return toolchain


def catalogue_bytes(toolchain: Toolchain) -> bytes:
    """A catalogue's bytes, to be read by people as well; the field that names the schema is always there."""
    named = {"schema": SCHEMA, **to_plain(toolchain)}
    return msgspec.json.format(encode_json(named), indent=1) + b"\n"


def ordered_parts(toolchain: Toolchain) -> tuple[str, ...]:
    """The names of all parts, each after those that it needs; a licence's part comes before what the licence is of."""
    return tuple(TopologicalSorter(_needed_parts(toolchain)).static_order())


def licence_part(toolchain: Toolchain, licence: Licence) -> str:
    """The name of the part that brings a licence's text; empty where none does."""
    return next((part.name for part in toolchain.parts if licence.text in part.files), "")


def _needed_parts(toolchain: Toolchain) -> dict[str, dict[str, None]]:
    """For each part's name the names of those before it, in the order in which they are written."""
    bringers = {licence.name: licence_part(toolchain, licence) for licence in toolchain.licences}
    needed: dict[str, dict[str, None]] = {}
    for part in toolchain.parts:
        before = needed.setdefault(part.name, {})
        bringer = bringers.get(part.licence or "", "")
        before.update(dict.fromkeys((*part.after, *([bringer] if bringer not in {"", part.name} else []))))
    return needed


def _problems(toolchain: Toolchain) -> Iterator[str]:
    names = {part.name for part in toolchain.parts}
    licences = {licence.name for licence in toolchain.licences}
    yield from _problems_of_parts(toolchain, names, licences)
    if len(licences) < len(toolchain.licences):
        yield say("toolchains.two-licences-have-the-same-name")
    for licence in toolchain.licences:
        if not licence_part(toolchain, licence):
            yield say("toolchains.the-text-of-the-licence-is", name=licence.name)
    for place in toolchain.path:
        if place != "." and not is_plain(place):
            yield say("toolchains.of-path-is-no-plain-path", place=printable(place))
    try:
        ordered_parts(toolchain)
    except CycleError as error:
        yield say("toolchains.parts-come-after-each-other-in", parts=" -> ".join(error.args[1]))


def _problems_of_parts(toolchain: Toolchain, names: set[str], licences: set[str]) -> Iterator[Message]:
    seen: set[tuple[str, Platform, Architecture]] = set()
    if sum(len(part.files) for part in toolchain.parts) > _MOST_FILES:
        yield say("toolchains.it-lists-more-than-files", most_files=_MOST_FILES)
    for part in toolchain.parts:
        key = (part.name, part.host.platform, part.host.architecture)
        if key in seen:
            yield say("toolchains.the-part-is-listed-twice-for", name=part.name, words=part.host.in_words)
        seen.add(key)
        if stray := next((each for each in part.after if each not in names), None):
            yield say("toolchains.the-part-comes-after-and-there", name=part.name, stray=stray)
        if part.licence is not None and part.licence not in licences:
            yield say("toolchains.the-part-has-the-licence-and", name=part.name, licence=part.licence)
        for place, file in part.files.items():
            if not is_plain(place):
                yield say("toolchains.of-the-part-is-no-plain", place=printable(place), name=part.name)
            if bool(file.sha256) == bool(file.link):
                yield say("toolchains.of-the-part-has-neither-a", place=printable(place), name=part.name)


def is_plain(place: str) -> bool:
    """Whether a place is a path below a folder, whichever platform reads it."""
    return all(part not in {"", ".", ".."} for part in place.split("/")) and not _FORBIDDEN.search(place)


def _refusal(name: str, why: str) -> DamagedFileError:
    return DamagedFileError(
        what=say("toolchains.the-toolchain-catalogue-cannot-be-used", name=printable(name)),
        why=why,
        do=say("toolchains.get-it-again-from-its-publisher"),
    )
