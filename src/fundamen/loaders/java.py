"""Resolve the needs of Java classes: a runtime, the archives of the class path, native libraries.

Source: JAR File Specification, "Class-Path"; The Java Virtual Machine Specification, 4.1 and 5.3 (a runtime refuses
classes of a newer version with UnsupportedClassVersionError); the launcher's own libjli for where it finds libjvm.
"""

import shlex
from collections.abc import Callable, Sequence
from urllib.parse import unquote

import msgspec

from fundamen.formats.binary import read_binary
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.managed.java import JavaClasses
from fundamen.loaders.java_runtimes import JavaRuntime, find_runtimes
from fundamen.loaders.load_map import Candidate, CandidateOutcome, LoadMap, Resolution, find_candidate
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.binary import Binary, Format, Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_MOST_ARCHIVES = 2000
_TOO_NEW = "loaders.exit-status-of-a-class-that-is-too-new"
_NO_JAVA = "loaders.exit-status-127-without-java"
_SYSTEMS = {Format.ELF: Platform.LINUX, Format.PE: Platform.WINDOWS, Format.MACHO: Platform.MACOS}

Loader = Callable[[Machine, MachinePath, Sequence[str]], LoadMap]


def load_map(machine: Machine, program: MachinePath, classes: JavaClasses, load: Loader) -> LoadMap:
    """Find all that an archive or class file needs.

    Args:
        machine: where it would be run.
        program: the archive or class file.
        classes: what it says of itself.
        load: finds all that the runtime needs, which is a program like any other that loads libjvm as it starts.
    """
    loaded: dict[MachinePath, Binary] = {}
    class_path = _class_path(machine, program, classes, loaded)
    demanding = max((classes, *(b for b in loaded.values() if isinstance(b, JavaClasses))), key=lambda each: each.java)
    runtimes = find_runtimes(machine)
    runtime = _runtime(program, demanding, runtimes, is_program=classes.main_class is not None)
    resolutions = [runtime, *class_path]
    architecture = Architecture.ANY
    if runtime.path is not None:
        parts = machine.join(machine.folder_of(machine.folder_of(runtime.path)), "lib")
        libjvm = machine.join(parts, "server", "libjvm.so")
        has_list = machine.look(machine.join(parts, "jvm.cfg")).kind is EntryKind.FILE  # as from Java 9 on
        inner = load(machine, runtime.path, [libjvm] if has_list and machine.platform is Platform.LINUX else [])
        architecture = inner.architecture
        loaded |= {inner.program: inner.binary, **inner.loaded}
        resolutions += [
            msgspec.structs.replace(each, how=Necessity.REQUIRED) if each.name == libjvm else each
            for each in inner.resolutions
        ]
    return LoadMap(
        program=program,
        binary=classes,
        architecture=architecture,
        loaded=loaded,
        resolutions=tuple(resolutions),
        remarks=tuple(_remarks(machine, classes, architecture)),
    )


def _runtime(
    program: MachinePath, classes: JavaClasses, runtimes: list[JavaRuntime], *, is_program: bool
) -> Resolution:
    """The runtime that a command takes, if it is new enough; the others are reported where it is not."""
    name = f"Java {classes.java}" if classes.java else "Java"
    what = say("loaders.class", newest_class=classes.newest_class) if classes.newest_class else "the class"
    candidates = []
    for index, each in enumerate(runtimes):
        is_enough = each.java >= classes.java
        if index == 0 and is_enough:
            taken = Candidate(
                each.launcher, CandidateOutcome.TAKEN, each.because, say("loaders.is-java", version=each.version)
            )
            decided = say("loaders.java-and-java-or-later-is", version=each.version, java=classes.java)
            return Resolution(name, program, Necessity.REQUIRED, (taken,), each.launcher, "runtime", decided=decided)
        detail = say("loaders.is-java", version=each.version)
        outcome = CandidateOutcome.NOT_SEARCHED if is_enough else CandidateOutcome.OLDER_VERSION
        if index == 0:
            detail = say("loaders.and-is-compiled-for-java", detail=detail, what=what, java=classes.java)
        candidates.append(Candidate(each.launcher, outcome, each.because, detail))
    right = next((each.launcher for each in runtimes if each.java >= classes.java), None)
    none = UNSAID if runtimes else say("loaders.no-java-runtime-is-found-on")
    return Resolution(
        name,
        program,
        Necessity.REQUIRED,
        tuple(candidates),
        None,
        "runtime",
        decided=none,
        gives_up_with=say(_TOO_NEW if runtimes else _NO_JAVA),
        sought_as=("java", "java.exe"),
        sought_versions=f">={classes.java}" if classes.java else "",
        remedy=shlex.join([right, "-jar", program]) if right is not None and is_program else "",
    )


def _class_path(
    machine: Machine, program: MachinePath, classes: JavaClasses, loaded: dict[MachinePath, Binary]
) -> list[Resolution]:
    """The archives that the manifests name, each counted from the folder of the archive that names it."""
    resolutions: list[Resolution] = []
    waiting: list[tuple[MachinePath, JavaClasses]] = [(program, classes)]
    seen = {machine.real(program)}
    while waiting and len(seen) < _MOST_ARCHIVES:
        holder, holding = waiting.pop(0)
        for entry in holding.class_path:
            if entry.endswith("/") or "://" in entry:  # a folder of classes, or a place on a network
                continue
            path = machine.join(machine.folder_of(holder), unquote(entry))
            found = find_candidate(machine, path, say("loaders.class-path-in-the-manifest"))
            is_archive = isinstance(found, JavaClasses)
            if isinstance(found, Candidate):
                candidate = found
            else:
                outcome = CandidateOutcome.TAKEN if is_archive else CandidateOutcome.REFUSED
                candidate = Candidate(
                    path,
                    outcome,
                    say("loaders.class-path-in-the-manifest"),
                    UNSAID if is_archive else say("loaders.is-no-archive"),
                )
            taken = path if is_archive else None
            resolutions.append(Resolution(entry, holder, Necessity.DELAYED, (candidate,), taken, "java-archive"))
            if isinstance(found, JavaClasses) and machine.real(path) not in seen:
                seen.add(machine.real(path))
                loaded[path] = found
                waiting.append((path, found))
    return resolutions


def _remarks(machine: Machine, classes: JavaClasses, architecture: Architecture) -> list[Message]:
    """Whether the native libraries that an archive brings serve this machine."""
    brought: dict[tuple[Platform, Architecture], str] = {}
    for native in classes.natives:
        try:
            binary = read_binary(MemoryBytes(native.magic, native.name))
        except UnreadableError:
            continue
        if binary.format in _SYSTEMS:
            for each in (binary.architecture, *binary.also_for):
                brought.setdefault((_SYSTEMS[binary.format], each), native.name)
    if not brought or architecture is Architecture.ANY or (machine.platform, architecture) in brought:
        return []
    in_words = ", ".join(sorted(say("loaders.on", words=platform.in_words, each=each) for platform, each in brought))
    wanted = say("loaders.on", words=machine.platform.in_words, each=architecture)
    return [say("loaders.the-native-libraries-that-it-brings", found=in_words, wanted=wanted)]
