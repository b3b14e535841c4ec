"""A device of the machine, and which driver serves it."""

import re
from collections.abc import Iterator
from typing import Annotated, ClassVar, Literal

import msgspec

from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import Message, say
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, unmet
from fundamen.prerequisites.requirement import CheckContext, Name, Requirement, only_live, read_text

_ENUM = r"HKLM\System\CurrentControlSet\Enum"
# Files of a device with its numbers, and how a key of Windows names them. Sources: Linux's sysfs-bus-pci and
# sysfs-bus-usb; Microsoft's "Identifiers for PCI Devices" and "Standard USB Identifiers".
_FILES = {"pci": ("vendor", "device"), "usb": ("idVendor", "idProduct")}
_KEYS = {
    "pci": "VEN_(?P<vendor>[0-9A-F]{4})&DEV_(?P<device>[0-9A-F]{4})",
    "usb": "VID_(?P<vendor>[0-9A-F]{4})&PID_(?P<device>[0-9A-F]{4})",
}
_MOST_DEVICES = 4096

Number = Annotated[str, msgspec.Meta(pattern="^[0-9a-fA-F]{4}$")]


class _Found(msgspec.Struct, frozen=True):
    vendor: str
    device: str
    driver: str  # empty where none serves it


class Device(Requirement, frozen=True, kw_only=True, tag="device"):
    """A device of a maker's numbers is there, perhaps served by a driver."""

    bus: Literal["pci", "usb"]
    vendor: Number
    device: Number | None = None  # any of the vendor's where it is not given
    driver: Name | None = None

    registry_key: ClassVar[str] = r"HKLM\System"

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        numbers = f"{self.vendor}:{self.device or 'any'}".lower()
        return say(
            "prerequisites.the-device",
            bus=self.bus.upper(),
            numbers=numbers,
            more=say("prerequisites.served-by", driver=self.driver) if self.driver else "",
        )

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.see-that-the-device-is-plugged")

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        machine = asked.machine
        if machine.platform is Platform.WINDOWS:
            all_ = list(_of_registry(machine, self.bus))
        elif machine.platform is Platform.LINUX and machine.is_live:
            all_ = list(_of_kernel(machine, self.bus))
        else:
            return only_live(machine)
        found = [each for each in all_ if self._is_meant(each)]
        if not found:
            return unmet(say("prerequisites.there-is-none-among-devices-of", count=len(all_)))
        drivers = ", ".join(dict.fromkeys(each.driver or "no driver" for each in found))
        if self.driver is not None and all(each.driver.lower() != self.driver.lower() for each in found):
            return unmet(say("prerequisites.it-is-there-served-by", drivers=drivers))
        return met(say("prerequisites.it-is-there-served-by", drivers=drivers))

    def _is_meant(self, found: _Found) -> bool:
        is_device = self.device is None or found.device.lower() == self.device.lower()
        return is_device and found.vendor.lower() == self.vendor.lower()


def _of_kernel(machine: Machine, bus: str) -> Iterator[_Found]:
    folder = MachinePath(f"/sys/bus/{bus}/devices")
    try:
        names = machine.names(folder)
    except UnreadableError:
        return
    for name in names[:_MOST_DEVICES]:
        files = [machine.join(folder, name, file) for file in _FILES[bus]]
        if all(machine.look(file).kind is EntryKind.FILE for file in files):  # an interface of a USB device has none
            vendor, device = (read_text(machine, file).strip().removeprefix("0x") for file in files)
            driver = machine.join(folder, name, "driver")
            bound = machine.look(driver).kind is EntryKind.FOLDER
            yield _Found(vendor, device, machine.paths.basename(machine.real(driver)) if bound else "")


def _of_registry(machine: Machine, bus: str) -> Iterator[_Found]:
    for name in machine.registry.subkeys(rf"{_ENUM}\{bus}")[:_MOST_DEVICES]:
        if named := re.match(_KEYS[bus], name, re.IGNORECASE):
            for _, values in machine.registry.children(rf"{_ENUM}\{bus}\{name}"):
                service = {key.lower(): value for key, value in values.items()}.get("service", "")
                yield _Found(named["vendor"], named["device"], str(service))
