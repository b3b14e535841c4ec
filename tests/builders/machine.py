"""Build machines in a temporary folder, from minimal binaries."""

import hashlib
import plistlib
import shutil
from pathlib import Path
from typing import Any, Self

from builders.elf import an_elf
from builders.hive import Key, a_hive
from builders.managed import a_managed
from builders.pe import a_pe
from fundamen.machine.machine import Machine
from fundamen.machine.opening import open_machine
from fundamen.model.paths import MachinePath
from fundamen.trace.records import Component, Trace
from fundamen.trace.trace import trace_program

LOADER = "/lib64/ld-linux-x86-64.so.2"


class AMachine:
    """A machine that is put together file by file; each method gives the builder back."""

    def __init__(self, root: Path) -> None:
        self.root = root

    def file(self, path: str, data: bytes, mode: int = 0o644) -> Self:
        target = self.root / path.removeprefix("C:").replace("\\", "/").lstrip("/")
        target.parent.mkdir(parents=True, exist_ok=True)
        target.write_bytes(data)
        target.chmod(mode)
        return self

    def link(self, path: str, target: str) -> Self:
        link = self.root / path.lstrip("/")
        link.parent.mkdir(parents=True, exist_ok=True)
        link.symlink_to(target)
        return self

    def opened(self, **environment: str) -> Machine:
        return open_machine(str(self.root), environment=environment)

    def trace(self, program: str, **environment: str) -> Trace:
        return trace_program(self.opened(**environment), MachinePath(program))

    def need(self, program: str, name: str, **environment: str) -> Component:
        """The component of this name, as a trace of the program finds it."""
        [found] = [c for c in self.trace(program, **environment).components if c.name == name]
        return found


def md5(data: bytes) -> str:
    return hashlib.md5(data, usedforsecurity=False).hexdigest()


class ALinuxMachine(AMachine):
    """A Linux root for x86_64 with a loader, which has no readable list of default folders."""

    def __init__(self, root: Path) -> None:
        super().__init__(root)
        self.file("/etc/os-release", b"").library(LOADER)

    def program(self, path: str, **facts: Any) -> Self:
        return self.file(path, an_elf(**{"interpreter": LOADER, **facts}), 0o755)

    def packages(self, files: dict[str, dict[str, bytes]], settings: dict[str, bytes] | None = None) -> Self:
        """Packages with their files, as dpkg records them; settings files belong to the first."""
        status = ""
        for package, contents in files.items():
            own = settings or {} if not status else {}
            listed = ["/.", *{str(parent) for path in contents for parent in Path(path).parents if str(parent) != "/"}]
            sums = "".join(f"{md5(data)}  {path[1:]}\n" for path, data in contents.items())
            self.file(f"/var/lib/dpkg/info/{package}.md5sums", sums.encode())
            self.file(f"/var/lib/dpkg/info/{package}.list", "\n".join([*listed, *contents, *own, ""]).encode())
            status += f"Package: {package}\nStatus: install ok installed\nArchitecture: amd64\nVersion: 1\n"
            if own:
                lines = "".join(f" {path} {md5(data)}\n" for path, data in own.items())
                status += f"Conffiles:\n{lines}"
            status += "\n"
            for path, data in {**contents, **own}.items():
                self.file(path, data, 0o755 if data.startswith(b"\x7fELF") else 0o644)
        return self.file("/var/lib/dpkg/status", status.encode())

    def library(self, path: str, architecture: str = "x86_64", **facts: Any) -> Self:
        return self.file(path, an_elf(architecture, **{"soname": path.rpartition("/")[2], **facts}))


class AWindowsMachine(AMachine):
    """A 64-bit Windows volume with empty system folders."""

    def __init__(self, root: Path) -> None:
        super().__init__(root)
        for folder in ("System32", "SysWOW64"):
            (root / "Windows" / folder).mkdir(parents=True)

    def program(self, path: str, architecture: str = "x86_64", **facts: Any) -> Self:
        return self.file(path, a_pe(architecture, **facts))

    def library(self, path: str, architecture: str = "x86_64", **facts: Any) -> Self:
        return self.file(path, a_pe(architecture, **{"name": path.rpartition("\\")[2], **facts}))

    def assembly(self, path: str, version: str = "1.0.0.0", **facts: Any) -> Self:
        stem, _, ending = path.rpartition("\\")[2].rpartition(".")
        return self.file(path, a_managed(stem, version, **{"is_library": ending == "dll", **facts}))

    def registry(self, software: Key | None = None, system: Key | None = None) -> Self:
        """Hives with these keys below HKLM\\Software and HKLM\\System\\CurrentControlSet."""
        self.file("C:\\Windows\\System32\\config\\SOFTWARE", a_hive(software or {}))
        control_sets: Key = {"Select": {"Current": 1}, "ControlSet001": system or {}}
        return self.file("C:\\Windows\\System32\\config\\SYSTEM", a_hive(control_sets))

    def system(self, architecture: str = "x86_64") -> Self:
        """The library by which it shows what this system runs; the 64-bit one runs 32-bit programs too."""
        self.library("C:\\Windows\\System32\\ntdll.dll", architecture)
        return self.library("C:\\Windows\\SysWOW64\\ntdll.dll", "x86")


class AMacMachine(AMachine):
    """A macOS root without a shared cache."""

    def __init__(self, root: Path, version: str = "14.2.1") -> None:
        super().__init__(root)
        versions = plistlib.dumps({"ProductVersion": version})
        self.file("/System/Library/CoreServices/SystemVersion.plist", versions)


def a_copy(folder: Path, of: Path) -> Path:
    """A copy of a tree, to compare with later."""
    return Path(shutil.copytree(of, folder, symlinks=True))
