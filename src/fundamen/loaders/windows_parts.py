"""Know the parts of Windows itself, and their first versions.

A volume that is only a partial copy lacks such parts without anything being wrong. Source: Microsoft's "Windows API
sets", "Universal CRT deployment", and the DLLs that the reference of the Win32 API names under "Requirements".
"""

from fundamen.formats.decimal import read_decimal
from fundamen.formats.windows.api_set import PREFIXES
from fundamen.formats.windows.pe import Pe
from fundamen.formats.windows.pe_version import read_version
from fundamen.loaders.windows_processes import INNERMOST, WINDOWS_FOLDER
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.errors import UnreadableError

_VERSION = r"HKLM\Software\Microsoft\Windows NT\CurrentVersion"
_UNIVERSAL_RUNTIME = "api-ms-win-crt-"
_TITLES = {7600: "Windows 7", 9200: "Windows 8", 10240: "Windows 10"}  # the first build of each

_LISTED = """
activeds advapi32 authz avicap32 avifil32 avrt bcrypt bcryptprimitives cabinet cfgmgr32 clbcatq clusapi combase
comctl32 comdlg32 compstui coremessaging credui crypt32 cryptbase cryptdll cryptnet cryptsp cryptui d2d1 d3d10 d3d11
d3d12 d3d8 d3d9 dbgeng dbghelp dciman32 dcomp ddraw devobj dhcpcsvc dinput dinput8 dnsapi dpapi dsound dwmapi dwrite
dxgi dxva2 esent evr faultrep fltlib fwpuclnt gdi32 gdi32full gdiplus glu32 hid hlink httpapi icmp imagehlp imm32
inetcomm iphlpapi kernel32 kernelbase ksuser ktmw32 loadperf lz32 mapi32 mf mfplat mfreadwrite mmdevapi mpr msacm32
mscoree msctf msctfmonitor msdmo msi msimg32 mspatcha mssign32 msvcp_win msvcrt msvfw32 mswsock msxml3 msxml6 ncrypt
ndfapi netapi32 netutils newdev normaliz ntdll ntdsapi ntmarta odbc32 odbccp32 ole32 oleacc oleaut32 oledlg olepro32
opengl32 pdh powrprof printui profapi propsys psapi qwave rasapi32 rasdlg resutils riched20 rpcrt4 rstrtmgr rtutils
samcli samlib sas schannel sechost secur32 sensapi setupapi sfc sfc_os shcore shdocvw shell32 shfolder shlwapi slc
snmpapi srvcli sspicli sti sxs t2embed tapi32 tdh traffic twain_32 ucrtbase urlmon user32 userenv usp10 uxtheme vdmdbg
version virtdisk vssapi wdsclient webservices wer wevtapi win32u windowscodecs winhttp wininet winmm winscard winspool
winsta wintrust wintypes wkscli wlanapi wldap32 wmvcore wow32 ws2_32 wscapi wsock32 wtsapi32 xinput1_4 xinput9_1_0
xmllite xolehlp
"""
_PARTS = frozenset(_LISTED.split())


def is_part(name: str) -> bool:
    """Whether a DLL of this name comes with every desktop version of Windows."""
    lowered = name.lower()
    return lowered.removesuffix(".dll") in _PARTS or lowered == "winspool.drv"


def build_of(machine: Machine) -> int | None:
    """The build number of a machine's Windows, by its registry or its innermost library; None where neither tells."""
    for name in ("CurrentBuildNumber", "CurrentBuild"):
        text = machine.registry.text(_VERSION, name)
        if (number := read_decimal(text)) is not None:
            return number
    try:
        path = machine.join(WINDOWS_FOLDER, "System32", INNERMOST)
        pe = machine.binary(path)
        with machine.open(path) as source:
            info = read_version(source, pe) if isinstance(pe, Pe) else None
    except UnreadableError:
        return None
    build = info.file_version.split(".")[2] if info is not None and info.file_version else ""
    return read_decimal(build)


def first_build_with(name: str) -> int | None:
    """The first build of Windows that provides an API set; None for what is no API set."""
    lowered = name.lower()
    if not lowered.startswith(PREFIXES):
        return None
    if lowered.startswith(_UNIVERSAL_RUNTIME):
        return 10240
    return 7600 if "-l1-1-0" in lowered and not lowered.startswith("ext-") else 9200


def title_of(build: int) -> str:
    """The version of Windows that a build belongs to, as people call it."""
    return next(
        (title for first, title in reversed(_TITLES.items()) if build >= first), say("loaders.an-older-windows")
    )
