"""Read requirement sheets: TOML of our own, with what they include. docs/formats/requirement-sheet.md describes them.

Every message points to the line and column that is wrong. A sheet is never believed further than to be checked: what it
names is looked at, and its commands are only run with consent.
"""

import os
import re
import tomllib
from collections.abc import Mapping, Sequence
from difflib import get_close_matches
from typing import Annotated, Any, Literal, Protocol

import msgspec

from fundamen.messages import Message, say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.prerequisites.all_kinds import AnyRequirement
from fundamen.prerequisites.positions import find_position
from fundamen.prerequisites.requirement import DIGEST_PATTERN, ID_PATTERN, LINE_PATTERN, Id, Name, Path, Requirement

SCHEMA = "fundamen.sheet/1"
_MOST_BYTES, _MOST_REQUIREMENTS, _DEEPEST = 4 << 20, 10_000, 8
_AT = re.compile(r"\$\.requirement\[(\d+)\]\.?([\w-]*)|\$\.([\w-]+)")
_TABLE = "requirement"
_PATTERNS = {
    ID_PATTERN: "it has small letters, digits, and then also . _ -, at most 80 of them",
    LINE_PATTERN: "it is on one line",
    DIGEST_PATTERN: "it is a SHA-256: 64 hexadecimal digits, the letters small",
}


class SheetFile(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """One file of a sheet, as it is written: the type of docs/schemas/sheet.json."""

    schema: Literal["fundamen.sheet/1"]
    name: Name
    program: Path | None = None
    include: Annotated[tuple[Path, ...], msgspec.Meta(max_length=100)] = ()
    requirement: Annotated[tuple[AnyRequirement, ...], msgspec.Meta(max_length=_MOST_REQUIREMENTS)] = ()


class Sheet(msgspec.Struct, frozen=True, kw_only=True):
    """All requirements of a program, an installer or a toolchain."""

    name: str
    program: MachinePath | None  # that they are of, if the sheet says
    requirements: tuple[Requirement, ...]  # each after its forerunners, otherwise as they are written


class _Place(msgspec.Struct, frozen=True):
    """Where a requirement is written down."""

    file: str
    text: str
    index: int  # among the requirements of its file

    def refusal(self, why: str, key: str = "", do: str = "") -> UsageError:
        line, column = find_position(self.text, _TABLE, self.index, key)
        return _refusal(self.file, line, column, why, do)


def read_sheet(path: HostPath) -> Sheet:
    """Read a sheet and all that it includes.

    Raises:
        UnreadableError: a file cannot be read, or is no TOML.
        UsageError: it says something that cannot be; with file, line and column.
    """
    return _read_whole(path, _Disk())


def read_carried_sheet(name: str, carried: Mapping[str, bytes]) -> Sheet:
    """Read a sheet that a source carries, and those of the same source that it includes.

    Args:
        name: of the sheet.
        carried: the content of all sheets of the source by their names.

    Raises:
        UnreadableError, UsageError: as ``read_sheet``.
    """
    return _read_whole(HostPath(name), _Carried(carried))


def _read_whole(path: HostPath, shelf: "_Shelf") -> Sheet:
    found: list[tuple[Requirement, _Place]] = []
    top = _gather_file(path, shelf, (), found, set())
    places: dict[str, _Place] = {}
    for requirement, place in found:
        if (before := places.get(requirement.id)) is not None:
            line, _ = find_position(before.text, _TABLE, before.index, "id")
            raise place.refusal(
                say("prerequisites.the-id-is-taken-already-in", id=requirement.id, line=line, file=before.file), "id"
            )
        places[requirement.id] = place
    if len(found) > _MOST_REQUIREMENTS:
        raise UsageError(
            say("prerequisites.the-sheet-is-refused", path=printable(path)),
            say("prerequisites.it-has-more-than-requirements", most_requirements=_MOST_REQUIREMENTS),
            "Part it.",
        )
    for requirement, place in found:
        if problem := requirement.problem():
            raise place.refusal(problem, _quoted_key(requirement, problem))
        for key, ids in _references_of(requirement):
            for each in ids:
                if each not in places:
                    raise place.refusal(say("prerequisites.it-names-and-there-is-no", each=each), key)
    return Sheet(
        name=top.name,
        program=MachinePath(top.program) if top.program else None,
        requirements=_order_requirements([requirement for requirement, _ in found], places),
    )


class _Shelf(Protocol):
    """Where sheets lie that include each other."""

    def real(self, path: HostPath) -> str:
        """The identity of a sheet's file, by which two paths are the same sheet."""

    def beside(self, path: HostPath, name: str) -> HostPath:
        """The sheet that another names."""

    def data(self, path: HostPath) -> bytes:
        """A sheet's bytes, at most one more than a sheet may have. Raises: UnreadableError."""


class _Disk:
    """Files of this host."""

    def real(self, path: HostPath) -> str:
        return os.path.realpath(path)

    def beside(self, path: HostPath, name: str) -> HostPath:
        return HostPath(os.path.join(os.path.dirname(path), name))

    def data(self, path: HostPath) -> bytes:
        if os.path.exists(path) and not os.path.isfile(path):
            raise _unreadable(
                path, say("prerequisites.it-is-no-ordinary-file"), say("prerequisites.name-a-file-of-toml")
            )
        try:
            with open(path, "rb") as file:
                return file.read(_MOST_BYTES + 1)
        except OSError as error:
            do = say("prerequisites.name-a-file-of-toml-that")
            raise _unreadable(path, error.strerror or str(error), do) from error


class _Carried(msgspec.Struct, frozen=True):
    """The documents of one source, by name."""

    sheets: Mapping[str, bytes]

    def real(self, path: HostPath) -> str:
        return path

    def beside(self, path: HostPath, name: str) -> HostPath:  # noqa: ARG002 - all lie in one place
        return HostPath(name)

    def data(self, path: HostPath) -> bytes:
        if path not in self.sheets:
            raise _unreadable(
                path, say("prerequisites.the-source-that-includes-it-does"), say("prerequisites.tell-the-packager")
            )
        return self.sheets[path]


def _gather_file(
    path: HostPath, shelf: _Shelf, above: tuple[str, ...], found: list[tuple[Requirement, _Place]], seen: set[str]
) -> SheetFile:
    """Read one file and what it includes; what is included comes first, and each file once."""
    real = shelf.real(path)
    if real in above or len(above) >= _DEEPEST:
        why = (
            say("prerequisites.it-includes-itself")
            if real in above
            else say("prerequisites.it-is-included-more-than-deep", deepest=_DEEPEST)
        )
        raise UsageError(
            say("prerequisites.the-sheet-is-refused", path=printable(path)),
            why,
            say("prerequisites.take-that-line-out-of-include"),
        )
    text = _text(path, shelf)
    file = _read(path, text)
    seen.add(real)
    for name in file.include:
        other = shelf.beside(path, name)
        if shelf.real(other) not in seen or shelf.real(other) in (*above, real):
            _gather_file(other, shelf, (*above, real), found, seen)
    found += [(each, _Place(path, text, index)) for index, each in enumerate(file.requirement)]
    return file


def _text(path: HostPath, shelf: _Shelf) -> str:
    data = shelf.data(path)
    if len(data) > _MOST_BYTES:
        raise _unreadable(path, say("prerequisites.it-is-larger-than-bytes", most_bytes=_MOST_BYTES), "Part it.")
    try:
        return data.decode("utf-8").replace("\r\n", "\n")
    except UnicodeDecodeError as error:
        raise _unreadable(
            path, say("prerequisites.it-is-no-text-in-utf"), say("prerequisites.name-a-file-of-toml-that")
        ) from error


def _unreadable(path: str, why: str, do: str) -> UnreadableError:
    return UnreadableError(say("prerequisites.the-sheet-cannot-be-read", path=printable(path)), why, do)


def _read(path: HostPath, text: str) -> SheetFile:
    try:
        data = tomllib.loads(text)
    except (tomllib.TOMLDecodeError, RecursionError) as error:
        raise UnreadableError(
            what=say("prerequisites.the-sheet-cannot-be-read", path=printable(path)),
            why=say("prerequisites.it-is-no-toml", error=error),
            do=say("prerequisites.mend-that-place-docs-formats-requirement"),
        ) from error
    try:
        return msgspec.convert(data, SheetFile)
    except msgspec.ValidationError as error:
        line, column, why = _locate_fault(text, data, str(error))
        raise _refusal(path, line, column, why) from error


def _locate_fault(text: str, data: dict[str, Any], said: str) -> tuple[int, int, str]:
    """(line, column, what is wrong) by what msgspec says of it."""
    why, _, where = said.partition(" - at `")
    found = _AT.search(where or said)
    unknown = re.search(r"unknown field `([^`]+)`", why)
    missing = re.search(r"missing required field `([^`]+)`", why)
    if found is None or found[1] is None:
        key = unknown[1] if unknown else (found[3] if found else "")
        return (*find_position(text, "", None, key), _in_words(why, key))
    index, key = int(found[1]), found[2]
    key = unknown[1] if unknown else "" if missing else key
    own = data[_TABLE][index] if isinstance(data.get(_TABLE), list) else {}
    if "Invalid value" in why and key == "kind":
        return (
            *find_position(text, _TABLE, index, key),
            say("prerequisites.there-is-no-kind", kind=own.get("kind"), kinds=_kinds(str(own.get("kind")))),
        )
    why_in_words = _in_words(why, key)
    if (unknown or missing) and (kind := _kind(own)) is not None:
        why_in_words += say("prerequisites.the-kind-takes", kind=own["kind"], keys=_keys(kind))
    return (*find_position(text, _TABLE, index, key), why_in_words)


def _kind(own: Mapping[str, Any]) -> type[Requirement] | None:
    return next((kind for kind in AnyRequirement.__args__ if kind.__struct_config__.tag == own.get("kind")), None)


def _keys(kind: type[Requirement]) -> str:
    """The keys of a kind's own, those first that must be there."""
    common = {field.name for field in msgspec.structs.fields(Requirement)}
    own = [field for field in msgspec.structs.fields(kind) if field.name not in common]
    must = [field.encode_name for field in own if field.required]
    may = [field.encode_name for field in own if not field.required]
    return " and ".join(
        filter(None, (", ".join(must), say("prerequisites.perhaps", may=", ".join(may)) if may else ""))
    )


def _in_words(why: str, key: str) -> str:
    """The error of msgspec, with the patterns of texts in words."""
    for pattern, words in _PATTERNS.items():
        if repr(pattern) in why:
            return f"{key}: {words}" if key else words
    words = why[:1].lower() + why[1:]
    return f"{key}: {words}" if key and f"`{key}`" not in why else words


def _kinds(written: str) -> Message:
    """Kinds that may be meant; all kinds where none is near."""
    kinds = sorted(str(kind.__struct_config__.tag) for kind in AnyRequirement.__args__)
    near = get_close_matches(written.lower().replace("_", " "), kinds, n=1)
    return (
        say("prerequisites.perhaps-is-meant", near=near[0])
        if near
        else say("prerequisites.it-is-one-of", kinds=", ".join(kinds))
    )


def _refusal(path: str, line: int, column: int, why: str, do: str = "") -> UsageError:
    return UsageError(
        what=say("prerequisites.the-sheet-is-refused-at-line", path=printable(path), line=line, column=column),
        why=printable(why),
        do=do or say("prerequisites.correct-that-place-docs-formats-requirement"),
    )


def _quoted_key(requirement: Requirement, problem: str) -> str:
    """The key whose value a problem quotes; empty for none."""
    values = ((key, getattr(requirement, key)) for key in requirement.__struct_fields__)
    return next((key for key, value in values if isinstance(value, str) and value and repr(value) in problem), "")


def _references_of(requirement: Requirement) -> Sequence[tuple[str, tuple[str, ...]]]:
    """(key, the ids that it names) of what a requirement depends on."""
    condition = requirement.only_if
    return (("after", requirement.after), ("only_if", (condition.met,) if condition and condition.met else ()))


def _order_requirements(requirements: Sequence[Requirement], places: dict[str, _Place]) -> tuple[Requirement, ...]:
    """Each after what it depends on, otherwise in their order. Raises: UsageError: some depend on each other."""
    by_id = {requirement.id: requirement for requirement in requirements}
    done: dict[Id, Requirement] = {}
    for first in requirements:
        waiting, open_ = [first], dict[str, None]()
        while waiting:
            requirement = waiting[-1]
            if requirement.id in done:
                waiting.pop()
                continue
            others = [other for _, ids in _references_of(requirement) for other in ids if other not in done]
            if not others:
                done[requirement.id] = requirement
                open_.pop(requirement.id, None)
                waiting.pop()
                continue
            open_[requirement.id] = None
            if ring := [other for other in others if other in open_]:
                names = " -> ".join([*list(open_)[list(open_).index(ring[0]) :], ring[0]])
                raise places[requirement.id].refusal(
                    say("prerequisites.it-depends-on-itself", names=names),
                    "after",
                    say("prerequisites.take-one-of-these-out"),
                )
            waiting += [by_id[other] for other in reversed(others)]
    return tuple(done.values())
