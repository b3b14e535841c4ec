r"""Read the installed packages, their files and the services from a Windows machine's registry.

An entry may outlive what it describes: the caller checks whether that is still there. Source: Microsoft's "Uninstall
Registry Key"; Windows Installer's per-machine data below ``Installer\UserData``, of which a component's values name the
products that share it and its key file; "SharedDLLs"; the key ``Services`` of a control set.
"""

from collections.abc import Collection, Iterator, Mapping
from enum import IntEnum

import msgspec

from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.registry import Registry
from fundamen.messages import say
from fundamen.model.paths import MachinePath

_SOFTWARE = (r"HKLM\Software", r"HKLM\Software\WOW6432Node", r"HKCU\Software")
_CURRENT = r"Microsoft\Windows\CurrentVersion"
_BY_INSTALLER = rf"HKLM\Software\{_CURRENT}\Installer\UserData\S-1-5-18"
UNINSTALL = rf"HKLM\Software\{_CURRENT}\Uninstall"
SERVICES = r"HKLM\System\CurrentControlSet\Services"
_MOST_COMPONENTS = 100_000


class InstalledPackage(msgspec.Struct, frozen=True):
    """One package, as its installer registered it."""

    name: str
    version: str
    publisher: str
    location: MachinePath | None  # its folder, if the installer recorded it

    @property
    def title(self) -> str:
        """The package as a technician would say it."""
        by = say("machine.by", publisher=self.publisher) if self.publisher else ""
        return f"{self.name} {self.version}".rstrip() + by


class Registration(msgspec.Struct, frozen=True):
    """One file that an installer registered."""

    path: MachinePath
    package: InstalledPackage | None  # None where only a count of its users was kept


class ServiceStart(IntEnum):
    """When a service is started: the value ``Start`` of its key."""

    BOOT = 0
    SYSTEM = 1
    AUTOMATIC = 2
    ON_DEMAND = 3
    DISABLED = 4


def installed_packages(registry: Registry) -> Iterator[InstalledPackage]:
    """Every package that a person could uninstall, for both word sizes."""
    for software in _SOFTWARE:
        for _, values in registry.children(rf"{software}\{_CURRENT}\Uninstall"):
            package = _package(values)
            if package is not None:
                yield package


def is_leftover(machine: Machine, package: InstalledPackage) -> bool:
    """Whether a package's own folder is gone, though it is still registered."""
    return package.location is not None and machine.look(package.location).kind is EntryKind.ABSENT


def find_registrations(machine: Machine, names: Collection[str]) -> dict[str, tuple[Registration, ...]]:
    """Which files of some names installers have registered: name in lower case -> its registrations."""
    registry, wanted = machine.registry, {name.lower() for name in names}
    found: dict[str, dict[str, Registration]] = {}
    packages: dict[str, InstalledPackage | None] = {}
    for number, (_, products) in enumerate(registry.children(rf"{_BY_INSTALLER}\Components") if wanted else ()):
        if number >= _MOST_COMPONENTS:
            break
        for product, path in products.items():
            name = _file_name(machine, path)
            if name in wanted:
                if product not in packages:
                    packages[product] = _package(
                        registry.values(rf"{_BY_INSTALLER}\Products\{product}\InstallProperties") or {}
                    )
                _add(found, name, Registration(MachinePath(str(path)), packages[product]))
    for software in _SOFTWARE if wanted else ():
        for path in registry.values(rf"{software}\{_CURRENT}\SharedDLLs") or {}:
            if _file_name(machine, path) in wanted:
                _add(found, _file_name(machine, path), Registration(MachinePath(path), None))
    return {name: tuple(registrations.values()) for name, registrations in found.items()}


def service_start(registry: Registry, name: str) -> ServiceStart | None:
    """When a service is started; None where there is no such service, or it does not say."""
    value = registry.value(rf"{SERVICES}\{name}", "Start")
    return ServiceStart(value) if isinstance(value, int) and value in set(ServiceStart) else None


def _package(values: Mapping[str, object]) -> InstalledPackage | None:
    texts = {name.lower(): value for name, value in values.items() if isinstance(value, str)}
    name = texts.get("displayname", "")
    if not name:
        return None
    location = texts.get("installlocation", "").strip('" ')
    return InstalledPackage(
        name, texts.get("displayversion", ""), texts.get("publisher", ""), MachinePath(location) if location else None
    )


def _add(found: dict[str, dict[str, Registration]], name: str, registration: Registration) -> None:
    found.setdefault(name, {}).setdefault(registration.path.lower(), registration)


def _file_name(machine: Machine, path: object) -> str:
    return machine.paths.basename(path).lower() if isinstance(path, str) else ""
