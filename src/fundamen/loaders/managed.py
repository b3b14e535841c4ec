"""Resolve the needs of a managed program: its framework, every referenced assembly, then native libraries.

A program for the .NET Framework is started by the system itself, one for shared frameworks by a host; each has rules of
its own for the framework (``net_framework``, ``framework_host``) and for assemblies (``assembly_binding``,
``listed_assemblies``). The native libraries that managed code calls are found by the image loader.

Source: ECMA-335, Partition I, 9.5 (assembly references), Partition II, 15.5 (platform invoke); for the rest, where
each room says so.
"""

from typing import Protocol

from fundamen.formats.managed.app_config import AppConfig, read_app_config
from fundamen.formats.managed.cli_header import AssemblyName
from fundamen.formats.managed.runtime_config import FrameworkReference, RuntimeConfig, read_runtime_config
from fundamen.loaders.assembly_binding import AssemblyBinding
from fundamen.loaders.assembly_files import AssemblyFile, AssemblyFiles
from fundamen.loaders.framework_host import BAD_CONFIGURATION, CORE, NO_HOST, FrameworkHost
from fundamen.loaders.listed_assemblies import ListedAssemblies
from fundamen.loaders.load_map import Candidate, CandidateOutcome, Resolution
from fundamen.loaders.net_framework import NetFramework
from fundamen.loaders.windows_loading import Loading, runtime_config_of
from fundamen.machine.machine import EntryKind
from fundamen.messages import UNSAID, say
from fundamen.model.binary import BinaryKind, Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_TARGET = ".NETCoreApp,Version=v"
_MOST_BYTES = 1 << 20
_BAD_APP_CONFIG = "0xC0150002 STATUS_SXS_CANT_GEN_ACTCTX, in a message as error 14001"
_MOST_ASSEMBLIES = 10_000


class Binder(Protocol):
    """Binds references to assemblies, by the rules of one runtime."""

    def bind(self, reference: AssemblyName, requester: MachinePath) -> Resolution:
        """The assembly that the runtime gives for a reference."""

    def follows(self, path: MachinePath) -> bool:
        """Whether what an assembly refers to is looked at."""


def load(loading: Loading) -> None:
    """Do for a managed program, or for a native one that starts managed code, what its runtime would."""
    files = AssemblyFiles(loading.machine, loading.architecture)
    own = files.try_at(loading.program, say("loaders.the-program-itself"))
    program = own if isinstance(own, AssemblyFile) else None
    config_at = runtime_config_of(loading.machine, loading.program)
    is_hosted = loading.machine.look(config_at).kind is EntryKind.FILE
    if is_hosted or (program is not None and (program.managed.target_framework or "").startswith(_TARGET)):
        _load_hosted(loading, files, program, config_at)
        return
    loading.take(loading.program, loading.pe)
    loading.run()
    if program is not None:
        config = _app_config(loading)
        framework = NetFramework(loading).start(program.managed, config)
        _follow(loading, files, AssemblyBinding(loading, files, framework, config), program)


def _load_hosted(loading: Loading, files: AssemblyFiles, program: AssemblyFile | None, config_at: MachinePath) -> None:
    """Start a program for shared frameworks. A native one only starts the assembly beside it that has its name."""
    start = program
    if program is None:
        loading.take(loading.program, loading.pe)
        loading.run()
        start = _start_of_native(loading, files)
    config = _runtime_config(loading, start, config_at)
    if config is None:
        return
    host = FrameworkHost(loading)
    host.start(config)
    assemblies = ListedAssemblies(loading, files, host)
    if start is not None:
        assemblies.fill(start.path)
        _follow(loading, files, assemblies, start)


def _start_of_native(loading: Loading, files: AssemblyFiles) -> AssemblyFile | None:
    machine = loading.machine
    path = MachinePath(machine.paths.splitext(loading.program)[0] + ".dll")
    because = say("loaders.the-assembly-that-the-program-starts")
    found = files.try_at(path, because)
    name = machine.paths.basename(path)
    candidate = found if isinstance(found, Candidate) else Candidate(found.path, CandidateOutcome.TAKEN, because)
    taken = found.path if isinstance(found, AssemblyFile) else None
    if isinstance(found, AssemblyFile):
        loading.count(found.path, found.pe)
    loading.answer(Resolution(name, loading.program, Necessity.REQUIRED, (candidate,), taken, "assembly"))
    return found if isinstance(found, AssemblyFile) else None


def _runtime_config(loading: Loading, start: AssemblyFile | None, place: MachinePath) -> RuntimeConfig | None:
    """The configuration file beside the program; a library by itself gets the one that it was compiled for."""
    is_there = loading.machine.look(place).kind is EntryKind.FILE
    if not is_there and loading.pe.kind is BinaryKind.LIBRARY and start is not None:
        version = (start.managed.target_framework or "").removeprefix(_TARGET)
        return RuntimeConfig((FrameworkReference(CORE, version + ".0"),))
    try:
        return read_runtime_config(loading.machine.content(place, _MOST_BYTES))
    except UnreadableError as error:
        loading.answer_unread(
            place, say("loaders.beside-the-program"), error.why, BAD_CONFIGURATION if is_there else NO_HOST
        )
        return None


def _app_config(loading: Loading) -> AppConfig:
    """The configuration file of a program for the .NET Framework; a damaged one is a fault."""
    place = MachinePath(loading.program + ".config")
    if loading.machine.look(place).kind is not EntryKind.FILE:
        return AppConfig()
    try:
        return read_app_config(loading.machine.content(place, _MOST_BYTES))
    except UnreadableError as error:
        loading.answer_unread(place, say("loaders.beside-the-program"), error.why, _BAD_APP_CONFIG)
        return AppConfig()


def _follow(loading: Loading, files: AssemblyFiles, binder: Binder, start: AssemblyFile) -> None:
    """Bind every reference, the program's first; an assembly's native libraries are wanted at a call."""
    waiting = [start]
    seen = {start.path}
    while waiting and len(seen) < _MOST_ASSEMBLIES:
        assembly = waiting.pop(0)
        for reference in assembly.managed.references:
            resolution = binder.bind(reference, assembly.path)
            loading.answer(resolution)
            found = files.try_at(resolution.path, UNSAID) if resolution.path is not None else None
            if not isinstance(found, AssemblyFile) or found.path in seen:
                continue
            seen.add(found.path)
            loading.count(found.path, found.pe)
            if binder.follows(found.path):
                waiting.append(found)
            if not (found.managed.is_pure or found.managed.is_neutral):
                loading.take(found.path, found.pe)
        for library in assembly.managed.native_libraries:
            loading.need(library, Necessity.DELAYED, assembly.path)
        loading.run()
