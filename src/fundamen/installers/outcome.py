r"""Compare the effects of an install package on a machine with the forecast.

Nothing of what an installer says of itself is believed: each feature is looked for by its components, as the service
has registered them, and each component's key file by what stands at its path. Source: Windows Installer reference,
"Component Table", "KeyPath"; the data below ``Installer\UserData``, as registries of real machines have it.
"""

from collections.abc import Iterator

import msgspec

from fundamen.evidence.dpkg import all_installed
from fundamen.formats.archives.msi_database import Database
from fundamen.installers.msi_searches import packed_code
from fundamen.machine.installed import SERVICES, installed_packages, is_leftover
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import Message, as_said, say
from fundamen.model.paths import MachinePath

_USER_DATA = r"HKLM\Software\Microsoft\Windows\CurrentVersion\Installer\UserData"
_PUBLISHED = r"HKLM\Software\Classes\Installer\Features"
_ABSENT = "\x06"  # how the value of a published feature begins that was not installed


class Forecast(msgspec.Struct, frozen=True, kw_only=True):
    """The forecast from before a package ran."""

    name: str
    version: str
    features: dict[str, bool | None] = {}  # by name, whether it was to be chosen; None: that was not known
    removed: dict[str, str] = {}  # codes of earlier versions that it was to remove, with their names
    services: tuple[str, ...] = ()
    bundled: tuple[tuple[str, str], ...] = ()  # (name, version) of the packages in it


class Deed(msgspec.Struct, frozen=True):
    """One thing that was meant, and what became of it."""

    what: Message
    meant: bool | None  # whether it was to be there; None: it was not foreseen
    is_done: bool | None  # whether it is there; None: nothing tells
    found: Message

    @property
    def is_wrong(self) -> bool:
        """Whether it is known to be otherwise than it was meant."""
        return self.meant is not None and self.is_done is not None and self.meant is not self.is_done


class InstallationOutcome(msgspec.Struct, frozen=True):
    """The outcome of a package."""

    meant: Forecast
    deeds: tuple[Deed, ...]

    @property
    def wrong(self) -> tuple[Deed, ...]:
        """Effects that differ from the forecast."""
        return tuple(deed for deed in self.deeds if deed.is_wrong)


def outcome_of_msi(machine: Machine, database: Database, meant: Forecast) -> InstallationOutcome:
    """The effects of an MSI on a Windows machine."""
    product = packed_code(database.property("ProductCode"))
    holder = _holder(machine, product)
    if holder is None:
        absent = Deed(
            say("installers.the-product"),
            meant=True,
            is_done=False,
            found=say("installers.the-installer-service-has-not-registered"),
        )
        return InstallationOutcome(meant, (absent,))
    values = machine.registry.values(rf"{holder}\Products\{product}\InstallProperties") or {}
    texts = {name.lower(): value for name, value in values.items() if isinstance(value, str)}
    version = texts.get("displayversion", "")
    there = Deed(
        say("installers.the-product"),
        meant=True,
        is_done=version == meant.version,
        found=say("installers.it-is-registered-as", version=version),
    )
    deeds = (
        there,
        *(
            msgspec.structs.replace(_feature(machine, database, holder, product, name), meant=is_meant)
            for name, is_meant in meant.features.items()
        ),
        *_remaining_products(machine, meant),
        *_services(machine, meant),
    )
    return InstallationOutcome(meant, deeds)


def outcome_of_debian(machine: Machine, meant: Forecast) -> InstallationOutcome:
    """The effects of a Debian package on a Linux machine. Raises: UnreadableError: it has no list of packages."""
    versions = [version for version, _ in all_installed(machine).get(meant.name, [])]
    found = (
        say("installers.dpkg-has-it-set-up-as", versions=", ".join(versions))
        if versions
        else say("installers.dpkg-has-not-set-it-up")
    )
    return InstallationOutcome(
        meant, (Deed(say("installers.the-package"), meant=True, is_done=meant.version in versions, found=found),)
    )


def outcome_of_bundle(machine: Machine, meant: Forecast) -> InstallationOutcome:
    """Which of the packages in a self-extracting program a machine of Windows has registered now."""
    registered = list(installed_packages(machine.registry))
    deeds = []
    for name, version in meant.bundled:
        same = [each for each in registered if each.name == name]
        there = [each for each in same if each.version == version]
        gone = [each for each in there if is_leftover(machine, each)]
        if gone:
            found = say("installers.it-is-registered-and-its-folder", location=gone[0].location)
        elif there:
            found = say("installers.it-is-registered")
        else:
            others = ", ".join(each.version for each in same)
            found = (
                say("installers.only-is-registered", others=others) if same else say("installers.it-is-not-registered")
            )
        deeds.append(Deed(as_said(f"{name} {version}"), meant=None, is_done=bool(there) and not gone, found=found))
    return InstallationOutcome(meant, tuple(deeds))


def _holder(machine: Machine, product: str) -> str | None:
    """The key of the account for which a product is registered: the machine's first, then each person's."""
    accounts = machine.registry.subkeys(_USER_DATA) if product else ()
    for account in sorted(accounts, key=lambda name: name != "S-1-5-18"):
        key = rf"{_USER_DATA}\{account}"
        if machine.registry.values(rf"{key}\Products\{product}\InstallProperties") is not None:
            return key
    return None


def _feature(machine: Machine, database: Database, holder: str, product: str, feature: str) -> Deed:
    what = say("installers.the-feature", feature=feature)
    components = list(_components(database, feature))
    if not components:
        published = machine.registry.text(rf"{_PUBLISHED}\{product}", feature)
        named = machine.registry.values(rf"{_PUBLISHED}\{product}") or {}
        is_named = feature.lower() in map(str.lower, named)
        is_done = not published.startswith(_ABSENT) if is_named else None
        return Deed(
            what, None, is_done, say("installers.it-has-no-files") if is_done else say("installers.it-is-not-published")
        )
    missing = [name for name, code in components if _key_path(machine, holder, product, code) is None]
    if missing:
        return Deed(what, None, is_done=False, found=say("installers.of-it-is-not-registered", missing=missing[0]))
    gone = [path for _, code in components if (path := _lost_key_file(machine, holder, product, code))]
    if gone:
        return Deed(what, None, is_done=False, found=say("installers.is-registered-and-not-there", gone=gone[0]))
    return Deed(what, None, is_done=True, found=say("installers.all-of-it-is-registered-and"))


def _components(database: Database, feature: str) -> Iterator[tuple[str, str]]:
    """(name, packed code) of the components of a feature that are counted: one with a condition may be left out."""
    rows = {str(row["Component"]): row for row in database.tables.get("Component", ())}
    for row in database.tables.get("FeatureComponents", ()):
        component = rows.get(str(row.get("Component_") or ""))
        if row.get("Feature_") != feature or component is None or component.get("Condition"):
            continue
        if code := packed_code(str(component.get("ComponentId") or "")):
            yield str(component["Component"]), code


def _key_path(machine: Machine, holder: str, product: str, component: str) -> str | None:
    """The key path of a component for a product; None where the product has not registered it."""
    values = machine.registry.values(rf"{holder}\Components\{component}") or {}
    found = {name.upper(): value for name, value in values.items()}.get(product)
    return found if isinstance(found, str) else None


def _lost_key_file(machine: Machine, holder: str, product: str, component: str) -> str:
    """The key file of a component that is registered and not there; empty where it is there, or is no file."""
    path = _key_path(machine, holder, product, component) or ""
    is_file = path[1:3] == ":\\"  # a value of the registry is named by a number and ":"
    return path if is_file and machine.look(MachinePath(path)).kind is EntryKind.ABSENT else ""


def _remaining_products(machine: Machine, meant: Forecast) -> Iterator[Deed]:
    for code, name in meant.removed.items():
        is_there = _holder(machine, packed_code(code)) is not None
        yield Deed(
            say("installers.the-earlier", name=name),
            meant=False,
            is_done=is_there,
            found=say("installers.it-is-registered-more", more="still" if is_there else "no longer"),
        )


def _services(machine: Machine, meant: Forecast) -> Iterator[Deed]:
    for name in meant.services:
        is_there = machine.registry.values(rf"{SERVICES}\{name}") is not None
        yield Deed(
            say("installers.the-service", name=name),
            None,
            is_there,
            say("installers.it-is-registered-more-2", more="" if is_there else "not "),
        )
