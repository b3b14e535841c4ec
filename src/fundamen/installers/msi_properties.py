"""The properties that the installer service itself gives an install package on a machine.

Source: Windows Installer reference, "Property Reference": "Operating System Property Descriptions", "System Folder
Properties". What only a session of a user has, such as its name or screen, is not known.
"""

from fundamen.formats.decimal import read_decimal
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.paths import MachinePath

_VERSION = r"HKLM\Software\Microsoft\Windows NT\CurrentVersion"
_FOLDERS = r"HKLM\Software\Microsoft\Windows\CurrentVersion"
_PRODUCT = r"HKLM\System\CurrentControlSet\Control\ProductOptions"
_TYPES = {"WinNT": "1", "LanmanNT": "2", "ServerNT": "3"}
# From Windows 8.1 on every version calls itself 6.3, build 9600, unless a package is made to know it.
_LAST_VERSION, _LAST_BUILD = 603, 9600

# What depends on a user, a screen, or the moment.
UNKNOWN = frozenset(
    {
        *("LogonUser", "USERNAME", "COMPANYNAME", "UserSID", "ComputerName", "UserLanguageID", "SystemLanguageID"),
        *("ScreenX", "ScreenY", "ColorBits", "CaptionHeight", "BorderSide", "BorderTop", "TextHeight", "TTCSupport"),
        *("PhysicalMemory", "VirtualMemory", "Date", "Time", "RemoteAdminTS", "TerminalServer", "RedirectedDllSupport"),
        *("AdminUser", "MsiRunningElevated", "MsiSystemRebootPending", "ReplacedInUseFiles", "MsiNetAssemblySupport"),
        *("MsiWin32AssemblySupport", "DefaultUIFont", "UserAppDataFolder", "AppDataFolder", "LocalAppDataFolder"),
        *("DesktopFolder", "StartMenuFolder", "ProgramMenuFolder", "StartupFolder", "PersonalFolder", "TempFolder"),
        *("OutOfDiskSpace", "OutOfNoRbDiskSpace", "PrimaryVolumeSpaceAvailable", "CostingComplete"),
    }
)


def machine_properties(machine: Machine, *, is_64_bit_package: bool) -> dict[str, str]:
    """The properties as they are before a package's own are looked at."""
    has_64_bits = machine.look(MachinePath(r"C:\Windows\SysWOW64")).kind is EntryKind.FOLDER
    properties = {
        "Privileged": "1",
        "Intel": "6",
        "WindowsVolume": "C:\\",
        "WindowsFolder": "C:\\Windows\\",
        "ROOTDRIVE": "C:\\",
        "FontsFolder": "C:\\Windows\\Fonts\\",
        "CommonAppDataFolder": "C:\\ProgramData\\",
        **_version(machine),
    }
    if has_64_bits:
        properties |= {"VersionNT64": properties.get("VersionNT", ""), "Msix64": "6"}
        properties |= {"System64Folder": "C:\\Windows\\System32\\", "SystemFolder": "C:\\Windows\\SysWOW64\\"}
        properties |= {
            "ProgramFiles64Folder": _folder(machine, "ProgramFilesDir"),
            "CommonFiles64Folder": _folder(machine, "CommonFilesDir"),
            "ProgramFilesFolder": _folder(machine, "ProgramFilesDir (x86)"),
            "CommonFilesFolder": _folder(machine, "CommonFilesDir (x86)"),
        }
    else:
        properties |= {
            "SystemFolder": "C:\\Windows\\System32\\",
            "ProgramFilesFolder": _folder(machine, "ProgramFilesDir"),
            "CommonFilesFolder": _folder(machine, "CommonFilesDir"),
        }
    if is_64_bit_package:
        properties["MsiAMD64"] = "6"
    return {name: value for name, value in properties.items() if value}


def _version(machine: Machine) -> dict[str, str]:
    """Source: "Operating System Property Values"."""
    registry = machine.registry
    major, minor = (
        registry.value(_VERSION, "CurrentMajorVersionNumber"),
        registry.value(_VERSION, "CurrentMinorVersionNumber"),
    )
    if not isinstance(major, int) or not isinstance(minor, int):  # before Windows 10
        numbers = registry.text(_VERSION, "CurrentVersion").split(".")
        parts = [read_decimal(part) for part in numbers]
        if len(parts) < 2 or parts[0] is None or parts[1] is None:  # noqa: PLR2004 - major and minor
            return {}
        major, minor = parts[0], parts[1]
    number = major * 100 + minor
    build = registry.text(_VERSION, "CurrentBuild") or registry.text(_VERSION, "CurrentBuildNumber")
    found = {
        "VersionNT": str(min(number, _LAST_VERSION)),
        "WindowsBuild": str(_LAST_BUILD) if number >= _LAST_VERSION else build,
        "MsiNTProductType": _TYPES.get(registry.text(_PRODUCT, "ProductType"), ""),
    }
    pack = registry.value(r"HKLM\System\CurrentControlSet\Control\Windows", "CSDVersion")
    return found | ({"ServicePackLevel": str(pack >> 8)} if isinstance(pack, int) else {})


def _folder(machine: Machine, name: str) -> str:
    usual = "C:\\Program Files" + (" (x86)" if "x86" in name else "") + ("\\Common Files" if "Common" in name else "")
    return (machine.registry.text(_FOLDERS, name) or usual).rstrip("\\") + "\\"
