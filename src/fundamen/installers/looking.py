"""Look into an install package: what it is, what it bundles, and what it will conclude on a machine."""

from collections.abc import Iterator, Mapping
from contextlib import suppress

import msgspec

from fundamen.evidence.debian_needs import MAY_CALL, PackageNeed, find_needs
from fundamen.evidence.dpkg import all_installed, all_provided
from fundamen.formats.archives.compound_file import CompoundFile
from fundamen.formats.archives.container import Container, ContainerKind, find_container
from fundamen.formats.archives.debian_package import read_debian_package
from fundamen.formats.archives.msi_database import Database, read_database
from fundamen.formats.archives.msi_files import file_paths
from fundamen.formats.byte_source import ByteSource, MemoryBytes
from fundamen.formats.unix.script import read_script
from fundamen.formats.unix.shell import read_shell
from fundamen.formats.windows.pe import read_pe
from fundamen.formats.windows.pe_version import read_version
from fundamen.installers.msi_run import Conclusion, Judged, conclude, describe_changes, is_for_64_bits
from fundamen.installers.outcome import (
    Forecast,
    InstallationOutcome,
    outcome_of_bundle,
    outcome_of_debian,
    outcome_of_msi,
)
from fundamen.machine.machine import Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.display import printable
from fundamen.model.errors import FundamenError, UnreadableError

_MOST_NESTED = 64 << 20  # bytes of a bundled package that is looked into
_MOST_LOOKED_INTO = 1 << 30  # bytes of all of them together
_DEEPEST = 3
_MOST_FILES = 200_000
_STEERING = (".ini", ".cfg", ".conf", ".xml", ".json", ".toml", ".yaml", ".yml", ".properties", ".inf", ".config")
_PACKAGES = (".msi", ".exe", ".cab", ".zip", ".msu", ".deb", ".dll")
_SCRIPT = b"#!"
_SHELLS = {"sh", "bash", "dash", "ash", "ksh", "mksh", "zsh"}
_HEAD = 64  # bytes that show whether something is worth reading


class Bundled(msgspec.Struct, frozen=True):
    """One file of a package."""

    path: str  # in the package; for a file of a package in it, behind that one's path and ": "
    size: int  # bytes
    is_package: bool = False  # whether it is an install package, or a program, of its own
    name: str = ""  # that it gives itself
    version: str = ""
    architecture: Architecture | None = None
    problem: Message = UNSAID  # why it could not be looked into


class Look(msgspec.Struct, frozen=True, kw_only=True):
    """A package, its content, and a forecast."""

    title: str
    kind: ContainerKind
    name: str = ""
    version: str = ""
    publisher: str = ""
    architecture: Architecture | None = None
    files: tuple[Bundled, ...] = ()
    services: tuple[str, ...] = ()
    steering: tuple[str, ...] = ()  # files beside the programs that may steer them
    needs: tuple[PackageNeed, ...] = ()
    checks: tuple[Judged, ...] = ()  # what a script asks about, with the answers here
    variables: tuple[str, ...] = ()  # of the environment, that steer a script
    conclusion: Conclusion | None = None  # None: it has none that can be foreseen, or not on such a machine
    overruled: tuple[Message, ...] = ()  # what the given properties change
    problems: tuple[Message, ...] = ()

    @property
    def prerequisites(self) -> tuple[Bundled, ...]:
        """Packages and programs that it bundles."""
        return tuple(each for each in self.files if each.is_package)

    @property
    def is_at_fault(self) -> bool:
        """Whether it will stop, lacks something, or is misled by a leftover."""
        found = self.conclusion
        is_misled = found is not None and bool(found.hindrances or found.leftovers)
        return is_misled or bool(self.unmet) or bool(self.problems)

    @property
    def unmet(self) -> tuple[PackageNeed, ...]:
        """Needs that the machine does not meet for certain."""
        return tuple(need for need in self.needs if not need.is_met and need.field != MAY_CALL)


def look_into(machine: Machine, source: ByteSource, given: Mapping[str, str]) -> Look:
    """Look into a package.

    Args:
        machine: where it is to be run.
        source: the package.
        given: properties as on the command line of an MSI.

    Raises:
        UnreadableError: it is no package that is read here, or a damaged one.
    """
    container = find_container(source)
    if source.read_at(0, 2) == _SCRIPT:
        return _of_script(machine, source, container)
    if container is None:
        raise UnreadableError(
            what=say("installers.cannot-be-looked-into", name=printable(source.name)),
            why=say("installers.it-is-no-install-package-script"),
            do=say("installers.see-what-it-is-fundamen-inspect", name=printable(source.name)),
        )
    if container.kind is ContainerKind.MSI:
        return _of_msi(machine, source, given)
    files, problems = _list_bundled(container)
    looked = Look(
        title=source.name,
        kind=container.kind,
        files=files,
        steering=tuple(each.path for each in files if each.path.lower().endswith(_STEERING)),
        problems=problems,
    )
    if container.kind is ContainerKind.DEBIAN:
        return _of_debian(machine, source, looked)
    return _add_names(source, looked)


def find_outcome(machine: Machine, source: ByteSource, meant: Forecast) -> InstallationOutcome:
    """Compare the state of a machine after a package ran with the forecast.

    Raises:
        UnreadableError: it is no package of which that can be known, or the machine is of another platform.
    """
    container = find_container(source)
    kind = container.kind if container is not None else None
    is_windows = machine.platform is Platform.WINDOWS
    if kind is ContainerKind.MSI and is_windows:
        return outcome_of_msi(
            machine,
            read_database(CompoundFile(source), say("installers.the-install-package", name=printable(source.name))),
            meant,
        )
    if kind is ContainerKind.DEBIAN and machine.platform is Platform.LINUX:
        return outcome_of_debian(machine, meant)
    if is_windows and meant.bundled:
        return outcome_of_bundle(machine, meant)
    raise UnreadableError(
        what=say("installers.the-outcome-of-is-unknown", name=printable(source.name)),
        why=say("installers.on-nothing-is-registered-that-would", title=machine.title),
        do=say("installers.check-what-it-was-to-bring"),
    )


def _of_msi(machine: Machine, source: ByteSource, given: Mapping[str, str]) -> Look:
    what = say("installers.the-install-package", name=printable(source.name))
    database = read_database(CompoundFile(source), what)
    sizes = {str(row["File"]): row.get("FileSize") for row in database.tables.get("File", ())}
    paths = file_paths(database, what)
    files = tuple(
        Bundled(paths[key], size if isinstance(size, int) else 0) for key, size in sizes.items() if key in paths
    )
    is_windows = machine.platform is Platform.WINDOWS
    conclusion = conclude(machine, database, given) if is_windows else None
    overruled = tuple(describe_changes(conclude(machine, database, {}), conclusion)) if conclusion and given else ()
    return Look(
        title=source.name,
        kind=ContainerKind.MSI,
        name=database.property("ProductName"),
        version=database.property("ProductVersion"),
        publisher=database.property("Manufacturer"),
        architecture=_architecture(database),
        files=files,
        services=tuple(str(row.get("Name") or "") for row in database.tables.get("ServiceInstall", ())),
        steering=tuple(each.path for each in files if each.path.lower().endswith(_STEERING)),
        conclusion=conclusion,
        overruled=overruled,
    )


def _of_debian(machine: Machine, source: ByteSource, looked: Look) -> Look:
    package = read_debian_package(source)
    needs: tuple[PackageNeed, ...] = ()
    if machine.platform is Platform.LINUX:
        with suppress(UnreadableError):  # a machine without Debian's packages
            needs = tuple(find_needs(package.fields, all_installed(machine), all_provided(machine)))
    return msgspec.structs.replace(
        looked,
        name=package.name,
        version=package.version,
        publisher=package.fields.get("Maintainer", ""),
        needs=needs,
        steering=tuple(sorted(package.settings)),
    )


def _of_script(machine: Machine, source: ByteSource, container: Container | None) -> Look:
    """A shell script, with what it carries behind its last line."""
    from fundamen.installers.script_run import foresee_script  # noqa: PLC0415 - few installers are scripts

    interpreter = read_script(source).interpreter
    if interpreter.rpartition("/")[2] not in _SHELLS:
        raise UnreadableError(
            what=say("installers.cannot-be-looked-into", name=printable(source.name)),
            why=say("installers.it-is-a-script-for-and", interpreter=printable(interpreter) or "no interpreter"),
            do=say("installers.see-what-it-needs-fundamen-trace", name=printable(source.name)),
        )
    script = read_shell(source)
    files, problems = _list_bundled(container) if container is not None else ((), ())
    run = foresee_script(machine, script) if machine.platform is not Platform.WINDOWS else None
    return Look(
        title=source.name,
        kind=ContainerKind.SCRIPT,
        files=files,
        steering=(
            *(run.settings if run is not None else ()),
            *(each.path for each in files if each.path.lower().endswith(_STEERING)),
        ),
        needs=run.needs if run is not None else (),
        checks=run.checks if run is not None else (),
        variables=run.variables if run is not None else (),
        problems=(*problems, *([script.problem] if script.problem else [])),
    )


def _add_names(source: ByteSource, looked: Look) -> Look:
    """The same with what a self-extracting program says of itself."""
    if looked.kind is not ContainerKind.SELF_EXTRACTING:
        return looked
    image = read_pe(source)
    version = read_version(source, image)
    strings = version.strings if version is not None else {}
    return msgspec.structs.replace(
        looked,
        name=strings.get("ProductName", ""),
        version=(version.product_version or version.file_version or "") if version is not None else "",
        publisher=strings.get("CompanyName", ""),
        architecture=image.architecture,
    )


def _list_bundled(container: Container) -> tuple[tuple[Bundled, ...], tuple[Message, ...]]:
    """(all files, what could not be read)."""
    files, left = list[Bundled](), [_MOST_LOOKED_INTO]
    try:
        for file in _walk(container, "", 1, left):
            files.append(file)
            if len(files) >= _MOST_FILES:
                return tuple(files), (say("installers.it-has-more-than-files-only", most_files=_MOST_FILES),)
    except FundamenError as error:
        return tuple(files), (say("common.said-of", subject=error.what, said=error.why),)
    return tuple(files), ()


def _walk(container: Container, above: str, depth: int, left: list[int]) -> Iterator[Bundled]:
    """Each file of a container, and of the packages in it, within bounds."""
    for packed, data in container.unpack():
        path = f"{above}{packed.path}"
        if packed.link or not packed.path.lower().endswith(_PACKAGES) or packed.size > min(_MOST_NESTED, left[0]):
            yield Bundled(path, packed.size)
            continue
        content = data.read(_MOST_NESTED)
        left[0] -= len(content)
        yield from _looked_into(path, content, depth, left)


def _looked_into(path: str, content: bytes, depth: int, left: list[int]) -> Iterator[Bundled]:
    source = MemoryBytes(content, path)
    try:
        inner = find_container(source)
        yield _bundled_file(path, source, inner)
    except FundamenError as error:
        yield Bundled(path, source.size, problem=error.why)
        return
    if inner is None or inner.kind is ContainerKind.MSI:
        return
    if depth >= _DEEPEST:
        yield Bundled(
            f"{path}: ...", 0, problem=say("installers.packages-in-packages-are-looked-into", deepest=_DEEPEST)
        )
        return
    try:
        yield from _walk(inner, f"{path}: ", depth + 1, left)
    except FundamenError as error:
        yield Bundled(f"{path}: ...", 0, problem=error.why)


def _bundled_file(path: str, source: ByteSource, inner: Container | None) -> Bundled:
    if inner is not None and inner.kind is ContainerKind.MSI:
        database = read_database(CompoundFile(source), say("installers.the-install-package", name=printable(path)))
        return Bundled(
            path,
            source.size,
            is_package=True,
            name=database.property("ProductName"),
            version=database.property("ProductVersion"),
            architecture=_architecture(database),
        )
    if inner is not None and inner.kind is ContainerKind.DEBIAN:
        package = read_debian_package(source)
        return Bundled(path, source.size, is_package=True, name=package.name, version=package.version)
    if source.read_at(0, 2) == b"MZ":
        image = read_pe(source)
        version = read_version(source, image)
        strings = version.strings if version is not None else {}
        return Bundled(
            path,
            source.size,
            is_package=path.lower().endswith(".exe"),
            name=strings.get("ProductName", ""),
            version=(version.file_version or "") if version is not None else "",
            architecture=image.architecture,
        )
    return Bundled(path, source.size, is_package=inner is not None)


def _architecture(database: Database) -> Architecture:
    platform = database.template.partition(";")[0].lower()
    if platform == "arm64":
        return Architecture.AARCH64
    return Architecture.X86_64 if is_for_64_bits(database) else Architecture.X86
