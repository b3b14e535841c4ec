"""The contract of ``installer`` with ``--json``."""

from typing import Literal

import msgspec

from fundamen.evidence.debian_needs import PackageNeed
from fundamen.installers.looking import Look
from fundamen.installers.msi_run import Judged, PackagePart, Related
from fundamen.installers.msi_searches import SearchResult
from fundamen.installers.outcome import Deed, Forecast, InstallationOutcome
from fundamen.installers.unpacking import UnpackedCopy
from fundamen.messages import Message
from fundamen.report.contracts.line import Failure


class ConditionPart(msgspec.Struct, frozen=True):
    """A condition with what it comes to."""

    what: str
    condition: str
    holds: bool | None  # null: it is not known without running the package
    asked: dict[str, str | int | None]
    says: str
    problem: Message | None


class BundledPart(msgspec.Struct, frozen=True):
    """One file of the package."""

    path: str
    size: int
    is_package: bool
    name: str
    version: str
    architecture: str
    problem: Message | None


class InstallerRecord(msgspec.Struct, frozen=True, kw_only=True):
    """A package, its content, and a forecast."""

    package: str
    kind: str = ""
    name: str = ""
    version: str = ""
    publisher: str = ""
    architecture: str = ""
    launch: tuple[ConditionPart, ...] = ()
    searches: tuple[SearchResult, ...] = ()
    related: tuple[Related, ...] = ()
    features: tuple[PackagePart, ...] = ()
    components: tuple[ConditionPart, ...] = ()
    actions: tuple[ConditionPart, ...] = ()
    properties: dict[str, str] = {}
    overruled: tuple[Message, ...] = ()
    needs: tuple[PackageNeed, ...] = ()
    checks: tuple[ConditionPart, ...] = ()  # what a script asks about
    variables: tuple[str, ...] = ()  # of the environment, that steer a script
    bundled: tuple[BundledPart, ...] = ()
    services: tuple[str, ...] = ()
    steering: tuple[str, ...] = ()
    problems: tuple[Message, ...] = ()
    faults: int = 0
    next: tuple[Message, ...] = ()
    error: Failure | None = None
    schema: Literal["fundamen.installer/2"] = "fundamen.installer/2"


def installer_record(look: Look, following: tuple[Message, ...]) -> InstallerRecord:
    """A look into a package, as JSON has it."""
    found = look.conclusion
    return InstallerRecord(
        package=look.title,
        kind=look.kind,
        name=look.name,
        version=look.version,
        publisher=look.publisher,
        architecture=look.architecture or "",
        launch=tuple(map(_condition, found.launch)) if found else (),
        searches=found.searches if found else (),
        related=found.related if found else (),
        features=found.parts if found else (),
        components=tuple(map(_condition, found.components)) if found else (),
        actions=tuple(map(_condition, found.actions)) if found else (),
        properties=found.properties if found else {},
        overruled=look.overruled,
        needs=look.needs,
        checks=tuple(map(_condition, look.checks)),
        variables=look.variables,
        bundled=tuple(
            BundledPart(e.path, e.size, e.is_package, e.name, e.version, e.architecture or "", e.problem)
            for e in look.files
        ),
        services=look.services,
        steering=look.steering,
        problems=look.problems,
        faults=fault_count(look),
        next=following,
    )


def fault_count(look: Look) -> int:
    """How many things would stop or mislead it."""
    found = look.conclusion
    unmet = len(look.unmet) + len(look.problems)
    if found is None:
        return unmet
    return unmet + len(found.hindrances) + len(found.leftovers)


def _condition(judged: Judged) -> ConditionPart:
    return ConditionPart(
        str(judged.what), str(judged.condition), judged.holds, dict(judged.asked), str(judged.says), judged.problem
    )


class OutcomeRecord(msgspec.Struct, frozen=True):
    """The effects of a package, compared with the forecast."""

    package: str
    name: str
    version: str
    deeds: tuple[Deed, ...]
    faults: int  # what is otherwise than it was meant
    schema: Literal["fundamen.installer-outcome/2"] = "fundamen.installer-outcome/2"


def outcome_record(package: str, outcome: InstallationOutcome) -> OutcomeRecord:
    """The outcome of a package in JSON."""
    meant = outcome.meant
    return OutcomeRecord(package, meant.name, meant.version, outcome.deeds, len(outcome.wrong))


def meant_by(record: InstallerRecord) -> Forecast:
    """The forecast in a record that was made before the run."""
    return Forecast(
        name=record.name,
        version=record.version,
        features={each.name: each.is_chosen for each in record.features},
        removed={each.code: f"{each.name} {each.version}" for each in record.related if each.is_removed},
        services=record.services,
        bundled=tuple((e.name, e.version) for e in record.bundled if e.is_package and e.name and e.version),
    )


class EditedPart(msgspec.Struct, frozen=True):
    """A setting that was changed in the copy."""

    file: str
    key: tuple[str, ...]
    before: str | None
    after: str


class UnpackedRecord(msgspec.Struct, frozen=True):
    """A package that was unpacked into a new folder."""

    package: str
    folder: str
    files: int
    size: int
    edited: tuple[EditedPart, ...]
    left_out: tuple[str, ...]
    signer: str | None = None  # of the package; the copy is not covered by it
    signature_holds: bool | None = None  # over the package
    uncovered: dict[str, str] = {}  # changed files, by the signed catalogue that no longer covers them
    schema: Literal["fundamen.unpacked/1"] = "fundamen.unpacked/1"


def unpacked_record(package: str, copy: UnpackedCopy) -> UnpackedRecord:
    """An unpacked copy, as JSON has it."""
    edited = tuple(EditedPart(e.edit.file, e.edit.key, e.before, e.edit.value) for e in copy.edited)
    cover = copy.cover
    return UnpackedRecord(
        package=package,
        folder=copy.folder,
        files=copy.files,
        size=copy.size,
        edited=edited,
        left_out=copy.left_out,
        signer=cover.signer if cover.is_signed else None,
        signature_holds=cover.is_intact if cover.is_signed else None,
        uncovered=copy.uncovered,
    )
