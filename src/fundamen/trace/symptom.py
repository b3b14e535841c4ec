"""Describe a fault as a person sees it: the status with which the loader gives up.

Sources: ntstatus.h for the numbers of Windows; ld.so(8) and POSIX's sh, "Exit Status for Commands", for Linux.
"""

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
_ASSEMBLY = "0xC0150002 STATUS_SXS_CANT_GEN_ACTCTX, in a message as error 14001"
_NOT_FOR_THIS_MACHINE = "error 216 ERROR_EXE_MACHINE_TYPE_MISMATCH"
_LINUX = "exit status 127, with the loader's message on standard error"
_LINUX_DAMAGED = "exit status 127, or the signal SIGBUS or SIGSEGV without a word"
_NOT_EXECUTABLE = "exit status 126, permission denied"
_NO_INTERPRETER = "exit status 126 or 127, and from the shell that the interpreter, or only the file, is not found"
_LINUX_NO_LOADER = "exit status 127, and from the shell only that the program is not found"
_MAC = "the signal SIGABRT, with the loader's message on standard error or in the crash report"
_MAC_KILLED = "the signal SIGKILL, or that the system cannot open it; a shell says 'Bad CPU type in executable'"


def symptom_of(file_format: Format, component: Component) -> str | None:
    """How a fault shows where nothing else is wrong before it; None where the component keeps nothing from starting."""
    if not component.is_fault or file_format is Format.INSTALLED:
        return None
    if component.gives_up_with:
        return component.gives_up_with
    if file_format is Format.MACHO:
        return _MAC_KILLED if component.kind == "program" else _MAC
    return _of_windows(component) if file_format is Format.PE else _of_linux(component)


def status_in_words(status: int) -> str:
    """An NTSTATUS in hexadecimal, with its name if it is one that a loader gives."""
    return _STATUSES.get(status, f"0x{status:08X}")


def _of_linux(component: Component) -> str:
    if component.kind == "program" and component.verdict is Verdict.BLOCKED:
        return _NOT_EXECUTABLE
    if component.kind in {"interpreter", "environment"}:
        return _NO_INTERPRETER
    if component.kind == "loader":
        return _LINUX_NO_LOADER
    return _LINUX_DAMAGED if component.verdict is Verdict.CORRUPT else _LINUX


def _of_windows(component: Component) -> str | None:
    if component.kind == "program" and component.verdict is Verdict.WRONG_ARCHITECTURE:
        return _NOT_FOR_THIS_MACHINE
    if component.kind == "side-by-side-assembly":
        return _ASSEMBLY
    if component.unoffered[:1] and component.unoffered[0].startswith("#"):
        return _ORDINAL
    return _WINDOWS.get(component.verdict)
