"""Describe a fault as a person sees it: the status with which the loader stops.

Sources: ntstatus.h for the numbers of Windows; ld.so(8) and POSIX's sh, "Exit Status for Commands", for Linux.
"""

from fundamen.messages import UNSAID, Message, say
from fundamen.model.binary import Format
from fundamen.model.verdict import Verdict
from fundamen.trace.records import Component

_WINDOWS = {
    Verdict.MISSING: "0xC0000135 STATUS_DLL_NOT_FOUND",
    Verdict.WRONG_ARCHITECTURE: "0xC000007B STATUS_INVALID_IMAGE_FORMAT",
    Verdict.CORRUPT: "0xC000007B STATUS_INVALID_IMAGE_FORMAT",
    Verdict.BLOCKED: "0xC0000022 STATUS_ACCESS_DENIED",
    Verdict.OUTDATED: "0xC0000139 STATUS_ENTRYPOINT_NOT_FOUND",
}
DLL_INIT_FAILED = 0xC0000142
_INIT_FAILED = "0xC0000142 STATUS_DLL_INIT_FAILED"
_STATUSES = {int(text.split()[0], 16): text for text in (*_WINDOWS.values(), _INIT_FAILED)}
_ORDINAL = "0xC0000138 STATUS_ORDINAL_NOT_FOUND"
_ASSEMBLY = "trace.status-of-an-assembly"
_NOT_FOR_THIS_MACHINE = "trace.error-machine-type-mismatch"
_LINUX = "trace.exit-status-127-with-a-message"
_LINUX_DAMAGED = "trace.exit-status-127-or-a-signal"
_NOT_EXECUTABLE = "trace.exit-status-126"
_NO_INTERPRETER = "trace.exit-status-of-a-script"
_LINUX_NO_LOADER = "trace.exit-status-127-from-the-shell"
_MAC = "trace.signal-abort-with-a-message"
_MAC_KILLED = "trace.signal-kill"


def symptom_of(file_format: Format, component: Component) -> Message | None:
    """How a fault shows where nothing else is wrong before it; None where the component keeps nothing from starting."""
    if not component.is_fault or file_format is Format.INSTALLED:
        return None
    if component.gives_up_with:
        return component.gives_up_with
    if file_format is Format.LAUNCHER and component.kind == "program":
        return UNSAID
    if file_format is Format.MACHO:
        return say(_MAC_KILLED if component.kind == "program" else _MAC)
    return _of_windows(component) if file_format is Format.PE else say(_of_linux(component))


def status_in_words(status: int) -> Message:
    """An NTSTATUS in hexadecimal, with its name if it is one that a loader gives."""
    return _say_status(_STATUSES.get(status, f"0x{status:08X}"))


def _say_status(status: str) -> Message:
    return say("common.status", status=status)


def _of_linux(component: Component) -> str:
    """The code of the symptom."""
    if component.kind == "program" and component.verdict is Verdict.BLOCKED:
        return _NOT_EXECUTABLE
    if component.kind in {"interpreter", "environment"}:
        return _NO_INTERPRETER
    if component.kind == "loader":
        return _LINUX_NO_LOADER
    return _LINUX_DAMAGED if component.verdict is Verdict.CORRUPT else _LINUX


def _of_windows(component: Component) -> Message | None:
    if component.kind == "program" and component.verdict is Verdict.WRONG_ARCHITECTURE:
        return say(_NOT_FOR_THIS_MACHINE)
    if component.kind == "side-by-side-assembly":
        return say(_ASSEMBLY)
    if component.unoffered[:1] and component.unoffered[0].startswith("#"):
        return _say_status(_ORDINAL)
    status = _WINDOWS.get(component.verdict)
    return _say_status(status) if status is not None else None
