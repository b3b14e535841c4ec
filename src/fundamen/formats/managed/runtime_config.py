"""Read what a program for shared frameworks says of itself: PROGRAM.runtimeconfig.json and PROGRAM.deps.json.

Source: the host's documents "Runtime configuration files" and "Framework version resolution".
"""

import re
from enum import StrEnum
from typing import TypeVar

import msgspec

from fundamen.formats.cursor import damage_error
from fundamen.messages import say
from fundamen.model.errors import DamagedFileError

_MAX_BYTES = 16 << 20
_BYTE_ORDER_MARK = b"\xef\xbb\xbf"
# Possessive, and with an end that always matches: the time is linear in any text.
_TEXT_OR_COMMENT = re.compile(rb'"(?:[^"\\]++|\\.)*+(?:"|\\?\Z)|//[^\n]*+|/\*.*?(?:\*/|\Z)', re.DOTALL)


class RollForward(StrEnum):
    """How far the host may go from the version of a framework that is asked for."""

    DISABLE = "Disable"
    LATEST_PATCH = "LatestPatch"
    MINOR = "Minor"
    LATEST_MINOR = "LatestMinor"
    MAJOR = "Major"
    LATEST_MAJOR = "LatestMajor"


class FrameworkReference(msgspec.Struct, frozen=True):
    """One framework that is asked for."""

    name: str
    version: str
    roll_forward: RollForward = RollForward.MINOR


class RuntimeConfig(msgspec.Struct, frozen=True):
    """The runtime that a program asks for."""

    frameworks: tuple[FrameworkReference, ...] = ()  # that have to be on the machine
    is_self_contained: bool = False  # brings its runtime along


class Asset(msgspec.Struct, frozen=True):
    """One file that a package contributes."""

    package: str
    version: str  # of the package
    path: str  # inside the package, parts separated by "/"
    is_managed: bool  # otherwise it is a native library
    assembly_version: str = ""  # four numbers; empty where the file gives none
    rid: str = ""  # runtime identifier that it is for, such as win-x64; empty where it serves wherever the program runs

    @property
    def file_name(self) -> str:
        """The last part of its path."""
        return self.path.rpartition("/")[2]


class _Framework(msgspec.Struct):
    name: str
    version: str = ""
    rollForward: str | None = None  # noqa: N815 - spelled as the file spells it, and so below
    rollForwardOnNoCandidateFx: int | None = None  # noqa: N815
    applyPatches: bool | None = None  # noqa: N815


class _Options(msgspec.Struct):
    framework: _Framework | None = None
    frameworks: list[_Framework] = []
    includedFrameworks: list[_Framework] = []  # noqa: N815
    rollForward: str | None = None  # noqa: N815
    rollForwardOnNoCandidateFx: int | None = None  # noqa: N815
    applyPatches: bool | None = None  # noqa: N815


class _RuntimeConfigFile(msgspec.Struct):
    runtimeOptions: _Options = msgspec.field(default_factory=_Options)  # noqa: N815


class _RuntimeTarget(msgspec.Struct):
    rid: str = ""
    assetType: str = "runtime"  # noqa: N815


class _RuntimeAsset(msgspec.Struct):
    assemblyVersion: str = ""  # noqa: N815


class _Library(msgspec.Struct):
    runtime: dict[str, _RuntimeAsset] = {}
    native: dict[str, msgspec.Raw] = {}
    runtimeTargets: dict[str, _RuntimeTarget] = {}  # noqa: N815


class _Target(msgspec.Struct):
    name: str = ""


class _DepsFile(msgspec.Struct):
    runtimeTarget: _Target | str = ""  # noqa: N815
    targets: dict[str, dict[str, _Library]] = {}


_File = TypeVar("_File", _RuntimeConfigFile, _DepsFile)

# What the older setting rollForwardOnNoCandidateFx means in the words of the newer one.
_OLDER_SETTING = {0: RollForward.LATEST_PATCH, 1: RollForward.MINOR, 2: RollForward.MAJOR}


def read_runtime_config(data: bytes) -> RuntimeConfig:
    """Read a runtime configuration file.

    Raises:
        DamagedFileError: it is no JSON of that form, or names a rule that there is not.
    """
    options = _decode_file(data, _RuntimeConfigFile).runtimeOptions
    asked_for = [*([options.framework] if options.framework else []), *options.frameworks]
    rule = _rule(options) or RollForward.MINOR
    return RuntimeConfig(
        frameworks=tuple(FrameworkReference(f.name, f.version, _rule(f) or rule) for f in asked_for),
        is_self_contained=not asked_for,
    )


def read_assets(data: bytes) -> tuple[Asset, ...]:
    """Read the files of all packages that a dependency file lists for the target it names.

    Raises:
        DamagedFileError: it is no JSON of that form.
    """
    file = _decode_file(data, _DepsFile)
    target = file.runtimeTarget if isinstance(file.runtimeTarget, str) else file.runtimeTarget.name
    assets: list[Asset] = []
    for library, contributes in file.targets.get(target, {}).items():
        package, _, version = library.partition("/")
        assets += [
            Asset(package, version, path, is_managed=True, assembly_version=found.assemblyVersion)
            for path, found in contributes.runtime.items()
            if _is_file(path)
        ]
        assets += [Asset(package, version, path, is_managed=False) for path in contributes.native if _is_file(path)]
        assets += [
            Asset(package, version, path, found.assetType == "runtime", rid=found.rid)
            for path, found in contributes.runtimeTargets.items()
            if _is_file(path)
        ]
    return tuple(assets)


def _is_file(path: str) -> bool:
    """Whether a path names a file; a package without one for the target has ``_._`` in its place."""
    parts = path.split("/")
    return parts[-1] not in {"_._", ""} and ".." not in parts and "\\" not in path and ":" not in path


def _rule(settings: _Options | _Framework) -> RollForward | None:
    if settings.rollForward is not None:
        for rule in RollForward:
            if rule.lower() == settings.rollForward.lower():
                return rule
        raise _damaged_config(
            say(
                "formats.rollforward-is-which-is-none-of",
                rollForward=settings.rollForward,
                rollforward=", ".join(RollForward),
            )
        )
    if settings.rollForwardOnNoCandidateFx is None and settings.applyPatches is None:
        return None
    number = 1 if settings.rollForwardOnNoCandidateFx is None else settings.rollForwardOnNoCandidateFx
    if number not in _OLDER_SETTING:
        raise _damaged_config(
            say(
                "formats.rollforwardonnocandidatefx-is-which-is-not-0",
                rollForwardOnNoCandidateFx=settings.rollForwardOnNoCandidateFx,
            )
        )
    is_exact = settings.applyPatches is False and _OLDER_SETTING[number] is RollForward.LATEST_PATCH
    return RollForward.DISABLE if is_exact else _OLDER_SETTING[number]


def _decode_file(data: bytes, kind: type[_File]) -> _File:
    if len(data) > _MAX_BYTES:
        raise _damaged_config(say("formats.it-has-bytes", count=len(data)))
    plain = _TEXT_OR_COMMENT.sub(lambda m: m[0] if m[0].startswith(b'"') else b" ", data.removeprefix(_BYTE_ORDER_MARK))
    try:
        return msgspec.json.decode(plain, type=kind)
    except (msgspec.DecodeError, UnicodeDecodeError, RecursionError) as error:
        raise _damaged_config(str(error)) from error


def _damaged_config(why: str) -> DamagedFileError:
    return damage_error(say("formats.the-runtime-configuration"), why)
