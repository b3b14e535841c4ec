"""Read lock files: which files of which versions they pin, by which digests.

Sources: PEP 751 (pylock.toml); npm's package-lock.json, versions 2 and 3, with its integrity strings (W3C, Subresource
Integrity); pip's requirements files with --hash.
"""

import base64
import re
from collections.abc import Iterator
from enum import StrEnum
from typing import Any

import msgspec

from fundamen.formats.cursor import damage_error
from fundamen.messages import say
from fundamen.model.display import printable

_MOST_ENTRIES = 100_000
_REQUIREMENT = re.compile(r"^([A-Za-z0-9][A-Za-z0-9._-]*)(?:\[[^\]]*\])?\s*==\s*([^\s;\\]+)")
_HASH = re.compile(r"--hash[= ]([a-z0-9]+):([0-9a-fA-F]+)")
_DIGITS = {"sha256": 64, "sha384": 96, "sha512": 128}


class LockKind(StrEnum):
    """Kinds of lock files, by the tool that writes them."""

    PYLOCK = "pylock.toml"
    NPM = "package-lock.json"
    REQUIREMENTS = "requirements with hashes"


class LockedFile(msgspec.Struct, frozen=True):
    """One file that a lock file pins."""

    name: str  # empty where only the digest is pinned
    algorithm: str  # as hashlib names it
    digest: str  # lower-case hexadecimal
    spelled: str  # as it stands in the lock file


class LockEntry(msgspec.Struct, frozen=True):
    """One package that a lock file pins."""

    name: str
    version: str
    files: tuple[LockedFile, ...]  # empty where no digest is recorded


class LockFile(msgspec.Struct, frozen=True):
    """The pinned packages of a lock file."""

    kind: LockKind
    entries: tuple[LockEntry, ...]


def read_lock_file(text: str, name: str) -> LockFile:
    """Read a lock file of whatever kind, recognised by its content.

    Raises:
        DamagedFileError: it is none that is known, or not well-formed.
    """
    try:
        if text.lstrip().startswith("{"):
            lock = LockFile(LockKind.NPM, tuple(_npm_entries(msgspec.json.decode(text))))
        elif "lock-version" in text:
            lock = LockFile(LockKind.PYLOCK, tuple(_pylock_entries(msgspec.toml.decode(text))))
        else:
            lock = LockFile(LockKind.REQUIREMENTS, tuple(_requirement_entries(text)))
    except (msgspec.DecodeError, KeyError, TypeError, AttributeError, ValueError, RecursionError) as error:
        raise damage_error(
            say("formats.the-lock-file", name=printable(name)),
            say("formats.it-is-not-well-formed", error=error or type(error).__name__),
        ) from error
    if not lock.entries or len(lock.entries) > _MOST_ENTRIES:
        raise damage_error(
            say("formats.the-lock-file", name=printable(name)),
            say("formats.it-pins-packages-in-a-way", count=len(lock.entries)),
        )
    return lock


def _pylock_entries(data: dict[str, Any]) -> Iterator[LockEntry]:
    for package in data["packages"]:
        artefacts = [*package.get("wheels", ()), *([package["sdist"]] if "sdist" in package else [])]
        files = tuple(
            LockedFile(_file_name(each), algorithm, _hexadecimal(algorithm, digest), digest)
            for each in artefacts
            for algorithm, digest in each.get("hashes", {}).items()
            if algorithm in _DIGITS
        )
        yield LockEntry(package["name"], str(package.get("version", "")), files)


def _file_name(artefact: dict[str, Any]) -> str:
    place = artefact.get("name") or artefact.get("path") or artefact.get("url") or ""
    return str(place).rpartition("/")[2].partition("#")[0]


def _npm_entries(data: dict[str, Any]) -> Iterator[LockEntry]:
    for path, package in data["packages"].items():
        name = package.get("name") or path.rpartition("node_modules/")[2]
        if not path or package.get("link") or not name:
            continue  # the project itself, or a folder of it
        file_name = str(package.get("resolved", "")).rpartition("/")[2].partition("#")[0]
        files = tuple(
            LockedFile(
                file_name,
                algorithm,
                _hexadecimal(algorithm, base64.b64decode(value, validate=True).hex()),
                f"{algorithm}-{value}",
            )
            for algorithm, _, value in (part.partition("-") for part in str(package.get("integrity", "")).split())
            if algorithm in _DIGITS
        )
        yield LockEntry(name, str(package.get("version", "")), files)


def _requirement_entries(text: str) -> Iterator[LockEntry]:
    for line in re.sub(r"\\\r?\n", " ", text).splitlines():
        found = _REQUIREMENT.match(line.strip())
        if found is not None:
            files = tuple(
                LockedFile("", algorithm, _hexadecimal(algorithm, digest), digest)
                for algorithm, digest in _HASH.findall(line)
                if algorithm in _DIGITS
            )
            yield LockEntry(found[1], found[2], files)


def _hexadecimal(algorithm: str, digest: str) -> str:
    """A digest in lower case; it must be one of the algorithm's."""
    if len(digest) != _DIGITS[algorithm] or set(digest.lower()) - set("0123456789abcdef"):
        raise ValueError(say("formats.is-no-digest", digest=digest[:20], algorithm=algorithm))
    return digest.lower()


def spelled_digest(locked: LockedFile, digest: bytes) -> str:
    """Another digest of the same algorithm, spelled as the lock file spells them."""
    if "-" in locked.spelled:
        return f"{locked.algorithm}-{base64.b64encode(digest).decode()}"
    return digest.hex()
