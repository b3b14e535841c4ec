"""Every reader of what comes from outside, with sound inputs to begin from: for whoever damages them."""

import atexit
import contextlib
import gzip
import hashlib
import io
import json
import plistlib
import re
import shutil
import struct
import sys
import tempfile
from collections.abc import Callable
from itertools import pairwise
from pathlib import Path
from typing import NamedTuple

import msgspec

TESTS = Path(__file__).parent.parent / "tests"
sys.path.insert(0, str(TESTS))

from builders.corpus import cases
from builders.dyld_cache import a_dyld_cache
from builders.hive import a_hive
from builders.java import a_class, an_archive
from builders.lzx import an_lzx_cabinet
from builders.machine import AWindowsMachine
from builders.managed import CORE, a_managed
from builders.media import a_cabinet_set, a_disc_image, a_tar, a_zip
from builders.pe import a_pe
from builders.signing import NOW, APublisher, a_catalogue
from builders.texts import GATHERED, OWN_MESSAGES, UNIT
from fundamen.clues.inputs import texts_of
from fundamen.clues.reading import read_text
from fundamen.clues.scanning import Scanner
from fundamen.cold_copies.archive import find_damage, write_archive
from fundamen.cold_copies.entries import entries_below
from fundamen.cold_copies.manifest import ColdCopy, manifest_bytes
from fundamen.cold_copies.manifest import read_manifest as read_manifest_of_copy
from fundamen.demo.world import BINARIES
from fundamen.formats.archives.cabinet import cabinets_of_set
from fundamen.formats.archives.cabinet_files import unpack_cabinet
from fundamen.formats.archives.container import find_container
from fundamen.formats.archives.debian_package import read_debian_package, unpack_debian_package
from fundamen.formats.archives.msi_condition import evaluate
from fundamen.formats.binary import read_binary
from fundamen.formats.build_log import read_build_log
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.capture_file import (
    CapturedEntry,
    CapturedFile,
    CaptureManifest,
    MachineFacts,
    read_capture,
    read_summary,
    write_capture,
)
from fundamen.formats.certificates.certificate_file import read_certificates
from fundamen.formats.certificates.stored_certificate import read_stored_blob
from fundamen.formats.gathered import read_gathered
from fundamen.formats.lock_file import read_lock_file
from fundamen.formats.mac.dyld_cache import read_dyld_cache
from fundamen.formats.mac.macho import MachO
from fundamen.formats.mac.macho_imports import read_imports
from fundamen.formats.mac.macho_signature import find_altered_page, read_signature
from fundamen.formats.mac.macho_slice import Slice
from fundamen.formats.mac.macho_symbols import read_exports as read_macho_exports
from fundamen.formats.mac.property_list import read_property_list
from fundamen.formats.managed.app_config import read_app_config
from fundamen.formats.managed.cli_header import read_managed
from fundamen.formats.managed.runtime_config import read_assets, read_runtime_config
from fundamen.formats.settings import editing
from fundamen.formats.settings.setting import SettingFormat
from fundamen.formats.unix.ar_archive import read_archive
from fundamen.formats.unix.elf import Elf
from fundamen.formats.unix.elf_symbols import read_exports as read_elf_exports
from fundamen.formats.unix.ld_cache import read_ld_cache
from fundamen.formats.unix.ld_debug import read_ld_debug
from fundamen.formats.unix.linker_script import read_linker_script
from fundamen.formats.unix.shell import read_shell
from fundamen.formats.unix.unit_file import read_install
from fundamen.formats.versions import is_in, problem_of_range
from fundamen.formats.windows import text_hive
from fundamen.formats.windows.api_set import read_api_sets
from fundamen.formats.windows.hive import with_values, without_key, without_value
from fundamen.formats.windows.hive_cells import find_value
from fundamen.formats.windows.loader_trace import LoaderTrace
from fundamen.formats.windows.manifest import read_manifest
from fundamen.formats.windows.pe import Pe
from fundamen.formats.windows.pe_exports import read_exports as read_pe_exports
from fundamen.formats.windows.pe_imports import read_imported_functions
from fundamen.formats.windows.pe_resources import ResourceType, read_resource
from fundamen.formats.windows.pe_version import read_version
from fundamen.formats.windows.registry_value import HiveValue
from fundamen.formats.windows.text_hive import TextHive, changed_values
from fundamen.installers.looking import look_into
from fundamen.installers.script_run import foresee_script
from fundamen.knowledge.entries import load_knowledge
from fundamen.machine.captured import CapturedMachine
from fundamen.machine.gathered import GatheredMachine
from fundamen.machine.opening import open_machine
from fundamen.machine.places import Top
from fundamen.machine.registry_hives import HiveRegistry
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.display import printable, shown_json, shown_page
from fundamen.model.errors import FundamenError
from fundamen.model.package import Base, Package, PackageFile
from fundamen.model.paths import HostPath, MachinePath
from fundamen.model.secrets import find_secrets, without_secrets
from fundamen.prerequisites.ready import ready_path
from fundamen.prerequisites.sheet import read_sheet
from fundamen.restore.plan_file import read_plan
from fundamen.sources.artefacts import find_artefacts
from fundamen.sources.layout import packed_shard, read_shard
from fundamen.sources.publisher_files import why_no_artefact
from fundamen.toolchains.catalogue import catalogue_bytes as written_toolchain
from fundamen.toolchains.catalogue import read_toolchain
from fundamen.trust.certificate import read_certificate, read_revocation_list
from fundamen.trust.publisher import SignatureStanding, judge_listed
from fundamen.trust.signed_file import judge_file

HIVE = rb"""WINE REGISTRY Version 2

[Software\\Ardvane] 1
"Parts"=str(7):"core\0tide\0"
"Seal"=hex:01,02,\
  03
"Build"=dword:0000002a
"""
MANIFEST = b"""<assembly xmlns="urn:schemas-microsoft-com:asm.v1"><dependency><dependentAssembly>
<assemblyIdentity name="Salt" version="4.2.0.0" processorArchitecture="*" publicKeyToken="0123456789abcdef"/>
<bindingRedirect oldVersion="1.0.0.0-4.1.0.0" newVersion="4.2.0.0"/>
</dependentAssembly></dependency><file name="salt.dll"/></assembly>"""
CONFIG = b"""<configuration><startup><supportedRuntime version="v4.0"/></startup><runtime><assemblyBinding>
<probing privatePath="lib;bin"/><dependentAssembly><assemblyIdentity name="Salt" publicKeyToken="0123456789abcdef"/>
<bindingRedirect oldVersion="0.0.0.0-2.0.0.0" newVersion="2.1.0.0"/><codeBase version="2.1.0.0" href="lib/Salt.dll"/>
</dependentAssembly></assemblyBinding></runtime></configuration>"""
RUNTIME_CONFIG = (
    b'{"runtimeOptions": {"rollForward": "Major", "frameworks": [{"name": "Core", "version": "6.0.0"}]}} // end'
)
DEPENDENCIES = b'{"runtimeTarget": "net", "targets": {"net": {"Salt/1.0": {"runtime": {"lib/Salt.dll": {}}}}}}'
TRACE = rb'0020:0024:trace:loaddll:build_module Loaded L"C:\\obs\\x\00fc.dll" at 0: native' + b"\n"
SCRIPT = b"/* GNU ld script */ OUTPUT_FORMAT(elf64-x86-64) GROUP ( /lib/libc.so.6 -lx AS_NEEDED ( ld.so ) )"
LOG = b"""make[1]: Entering directory '/src'
cc -o tidebook main.o -L. -lsa1t
/usr/bin/ld: cannot find -lsa1t: No such file or directory
main.c:(.text+0xa): undefined reference to `salt_depth'
main.c:3:10: fatal error: tide/berth.h: No such file or directory
make: *** [Makefile:4: tidebook] Error 1
"""


_SCRIPT = b"""#!/bin/sh
PREFIX=${PREFIX:-/opt/tide}; . /etc/tide.conf
step() { case $(uname -m) in x86_64|a*) tide "$1" ;; *) exit 2;; esac; }
if [ -d "$PREFIX" ] && command -v `echo gauge` >/dev/null; then step <<END | cat
text $(it)
END
fi; for each in one "two 3"; do ( step $each || false ) & done
"""
_TOOLCHAIN = b"""{"schema": "fundamen.toolchain/1", "name": "B", "version": "1", "path": ["bin"],
"licences": [{"name": "free", "text": "share/l"}], "environment": [{"name": "B_HOME", "value": "{folder}"}],
"parts": [{"name": "c", "version": "1", "host": {"platform": "linux"}, "after": ["l"], "licence": "free",
"files": {"bin/c": {"sha256": "%s", "size": 3, "executable": true}, "bin/d": {"link": "c"}}},
{"name": "l", "version": "1", "files": {"share/l": {"sha256": "%s", "size": 3}}}]}""" % (b"0" * 64, b"1" * 64)


def _part(name: str, content: bytes) -> bytes:
    """A member of an archive with its header."""
    header = f"{name:<16}{0:<12}{0:<6}{0:<6}{'100644':<8}{len(content):<10}`\n".encode()
    return header + content + b"\n" * (len(content) % 2)


AN_ARCHIVE = (
    b"!<arch>\n"
    + _part("/", b"\0\0\0\2" + b"\0\0\0\x80" * 2 + b"salt_depth\0salt_tide\0")
    + _part("//", b"a_long_name_of_a_member.o/\n")
    + _part("/0", b"\x7fELF" + bytes(70))
    + _part("#1/8", b"bsd.o\0\0\0content")
)
PUBLISHER = APublisher()
AN_LZX_CABINET = an_lzx_cabinet("x.bin", bytes(range(256)) * 9 + b"\xe8tide" * 99, 16, 5)
A_SET = a_cabinet_set("x.bin", bytes(range(256)) * 9, 3)
A_HIVE = a_hive({"Tide": {"Blob": b"x" * 30, "Salt": {"Grass": 1}, "Reed": {"Old": "text"}}})
STORED = (
    struct.pack("<III", 3, 1, 4) + b"seal" + struct.pack("<III", 32, 1, len(PUBLISHER.root.der)) + PUBLISHER.root.der
)
A_FOLDER = tempfile.mkdtemp()
Path(A_FOLDER, "tides").write_bytes(bytes(range(256)) * 4)
Path(A_FOLDER, "now").symlink_to("tides")
_TOP = Top(HostPath(A_FOLDER)).place("")
_FOUND = tuple(entries_below(_TOP, []))
_COPY = {"number": 1, "machine": "it", "folder": "/x", "because": "", "left_out": (), "unquiet": ()}
_WRITTEN = Path(A_FOLDER).with_suffix(".tar.zst")
_ENTRIES, _, _DIGEST, _SIZE = write_archive(HostPath(str(_WRITTEN)), _TOP, _FOUND, lambda _count: None)
_OF_ARCHIVE = {"entries": tuple(_ENTRIES), "taken_at": NOW, "archive_sha256": _DIGEST, "archive_size": _SIZE}
A_COPY = ColdCopy(**_COPY, **_OF_ARCHIVE)  # type: ignore[arg-type]
AN_ARCHIVED_COPY = _WRITTEN.read_bytes()
shutil.rmtree(A_FOLDER)
_WRITTEN.unlink()
A_PLAN = b"""{"schema": "fundamen.plan/1", "program": "C:\\\\x.exe", "machine": "it",
"made_at": "2026-01-01T00:00:00Z", "steps": [
{"do": "set registry value", "path": "HKLM\\\\Software\\\\Tide", "name": "Parts", "value": ["a", "b"], "expects": null},
{"do": "run installer", "path": "C:\\\\setup.exe", "sha256": "%s", "arguments": ["/q"]},
{"do": "set entry", "path": "/etc/environment", "key": ["PATH"], "entry": "/opt/tide/bin", "format": "shell"}]}""" % (
    b"0" * 64
)
INSTALLER_LOG = b"""\xef\xbb\xbfAction 9:00:00: Chart\nError 1722. A problem\nAction ended: Chart. Return value 3.
MainEngineThread is returning 1603
"""
LOCK = """lock-version = "1.0"
[[packages]]
name = "a"
version = "1"
wheels = [{name = "a.whl", hashes = {sha256 = "0000"}}]
""".replace("0000", "0" * 64)
PACKAGE = Package(
    "Ardvane",
    "Saltgrass",
    "4.2",
    Platform.LINUX,
    Architecture.X86_64,
    (PackageFile("libsalt.so.4", Base.ROOT, "usr/lib/libsalt.so.4", 4, "0" * 64),),
)
SCHEMA = bytes.fromhex("06000000 60000000 00000000 01000000 1c000000 00000000 1f000000".replace(" ", "")) + bytes(80)


def read_executable(data: bytes) -> None:
    """Everything that is read of a program or library."""
    source = MemoryBytes(data)
    binary = read_binary(source)
    if isinstance(binary, Elf):
        read_elf_exports(source, binary)
    elif isinstance(binary, MachO):
        for part in binary.slices:
            for read in (read_imports, read_macho_exports, read_page_hashes):
                with contextlib.suppress(FundamenError):
                    read(source, part)
    elif isinstance(binary, Pe):
        for reader in (read_pe_exports, read_version, read_managed, read_embedded_manifest):
            try:
                reader(source, binary)
            except FundamenError:
                continue
        for library in binary.imports[:20]:
            read_imported_functions(source, binary, library)


def judge_signature(data: bytes) -> None:
    """Who signed a file, by whatever signatures are left in it; nothing that was changed makes anybody else trusted."""
    source = MemoryBytes(data)
    publisher = judge_file(source, read_binary(source), PUBLISHER.machine_trusts(), NOW)
    if publisher.verdict is SignatureStanding.TRUSTED and publisher.name != PUBLISHER.signer.name:
        raise RuntimeError(f"a changed signature made {publisher.name} trusted")


def unpack_everything(data: bytes) -> None:
    """A container, all files in it, and where they would lie."""
    container = find_container(MemoryBytes(data))
    for packed, content in container.unpack() if container is not None else ():
        if {"", "..", "."} & set(packed.path.split("/")):
            raise RuntimeError(f"the path {packed.path!r} leads elsewhere")
        content.read(1 << 20)


def unpack_set(data: bytes) -> None:
    """A cabinet of a set, with the other ones as they should be, as far as it names them."""
    others = {name: MemoryBytes(cabinet, name) for name, cabinet in A_SET.items()}
    for _, content in unpack_cabinet(*cabinets_of_set(MemoryBytes(data), others.get)):
        content.read(1 << 20)


def change_hive(data: bytes) -> None:
    """A key into a hive, and another one out of it."""
    changed = with_values(data, "Tide\\Salt\\New", {"Blob": HiveValue(3, b"12345")}, 7)
    without_key(changed, "Tide\\Reed")
    for name in ("Grass", "Blob"):
        find_value(data, "Tide\\Salt", name)
        without_value(data, "Tide\\Salt", name)
        find_value(data, "Tide", name)


def change_text_hive(data: bytes) -> None:
    """A value into a text hive and out of it, and what differs from the hive as it should be."""
    changed = text_hive.with_value(data, "Software\\Ardvane", "Seal", HiveValue(1, b"a\0\0\0"), 7)
    text_hive.with_value(changed, "Software\\Ardvane", "Parts", None, 7)
    for each in changed_values(HIVE, data):
        for value in (each.old, each.new):
            if value is not None:
                value.as_text()


def check_cold_copy(data: bytes) -> None:
    """An archive of a cold copy, against the list that goes with it."""
    with tempfile.NamedTemporaryFile() as file:
        file.write(data)
        file.flush()
        copy = msgspec.structs.replace(A_COPY, archive_sha256=hashlib.sha256(data).hexdigest(), archive_size=len(data))
        find_damage(HostPath(file.name), copy, lambda _count: None)


def judge_catalogue(data: bytes) -> None:
    """A catalogue that lists a file."""
    judge_listed(data, "sha256", bytes(32), PUBLISHER.machine_trusts(), NOW)


def read_page_hashes(source: MemoryBytes, part: Slice) -> object:
    """The signature of a slice, and whether its pages are what was signed."""
    signature = read_signature(source, part)
    return find_altered_page(source, part, signature) if signature is not None else None


def look_into_wheel(data: bytes) -> None:
    """A wheel that a packager takes in: whether it is what its name says."""
    with tempfile.TemporaryDirectory() as folder:
        Path(folder, "salt-4.2-cp311-cp311-linux_x86_64.whl").write_bytes(data)
        for artefact in find_artefacts([HostPath(folder)]):
            why_no_artefact(artefact)


def show_text(data: bytes) -> None:
    """A text, without its secrets and safe to print."""
    text = data.decode("utf-8", "surrogateescape")
    found = find_secrets(text)
    if any(one.begin >= one.end for one in found) or any(a.end > b.begin for a, b in pairwise(found)):
        raise RuntimeError("the secrets of a text overlap")
    page, encoded = shown_page(without_secrets(text)), shown_json(json.dumps(text, ensure_ascii=False))
    if not printable(text).isprintable() or shown_page(page) != page or json.loads(encoded) != text:
        raise RuntimeError("a text is shown as what it is not")
    if set("\x07\x9b\u200b\u202e") & {*page, *encoded}:
        raise RuntimeError("what is not visible is shown")


def read_embedded_manifest(source: MemoryBytes, pe: Pe) -> object:
    """The manifest inside an image."""
    data = read_resource(source, pe, ResourceType.MANIFEST)
    return read_manifest(data) if data is not None else None


def read_all_certificates(data: bytes) -> None:
    """A file of certificates, and each of them."""
    held = read_certificates(MemoryBytes(data))
    for der in held.certificates:
        read_certificate(der)
    for der in held.revocation_lists:
        read_revocation_list(der)


def read_shared_cache(data: bytes) -> object:
    """The list of the libraries in a shared cache."""
    return read_dyld_cache(MemoryBytes(data))


def read_list(data: bytes) -> object:
    """A property list."""
    return read_property_list(data, "list")


def read_offline_hive(data: bytes) -> None:
    """A hive of a mounted volume and all that is in it."""
    with tempfile.NamedTemporaryFile() as file:
        file.write(data)
        file.flush()
        registry = HiveRegistry({"Software": HostPath(file.name)})
        for name, _ in registry.children("HKLM\\Software"):
            registry.values(f"HKLM\\Software\\{name}")


def read_hive(data: bytes) -> None:
    """A text hive and all that is in it."""
    hive = TextHive(data)
    for key in hive.subkeys("Software"):
        hive.values(f"Software\\{key}")


def _own_folder() -> Path:
    """A folder of this process, which goes with it."""
    folder = tempfile.mkdtemp()
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return Path(folder)


A_VOLUME = AWindowsMachine(_own_folder()).system().registry({"Tide": {"Level": 4}}, {}).opened()


def look_into_package(data: bytes) -> None:
    """Read the content and the forecast of a package."""
    look_into(A_VOLUME, MemoryBytes(data, "package"), {"BUNDLED": "1"})


def read_script_of(data: bytes) -> None:
    """Read the calls and questions of a script on this host."""
    foresee_script(open_machine(None, environment={}, current="/"), read_shell(MemoryBytes(data)))


def read_sheet_of(data: bytes) -> None:
    """A requirement sheet, which is read from a file."""
    path = Path(A_VOLUME.root) / "sheet.toml"
    path.write_bytes(data)
    read_sheet(HostPath(str(path)))


def read_log(data: bytes) -> None:
    """An error text or a log, in whatever encoding, and what it names."""
    reading = read_text(KNOWN, SCANNER, io.BytesIO(data), "log")
    if reading.decisive is not None:
        str(reading.decisive)


def read_packed_log(data: bytes) -> None:
    """A log that is packed, or lies in a bundle; what is damaged is told text by text."""
    with tempfile.NamedTemporaryFile() as file:
        file.write(data)
        file.flush()
        for name, stream in texts_of(file.name):
            if not isinstance(stream, FundamenError):
                with contextlib.suppress(FundamenError):
                    read_text(KNOWN, SCANNER, stream, name)


def change_setting(form: SettingFormat) -> Callable[[bytes], None]:
    """A reader that finds, changes and removes a value of a settings file."""

    def change(data: bytes) -> None:
        for key in (("tide", "station"), ("tide",), ("tide", "berths", "0"), ("PATH",)):
            with contextlib.suppress(FundamenError):
                editing.find_value(data, form, key, "it")
            with contextlib.suppress(FundamenError):
                editing.with_value(data, form, key, "Reed", "it")
            with contextlib.suppress(FundamenError):
                editing.without_value(data, form, key, "it")

    change.__name__ = f"a setting in {form}"
    return change


def read_a_capture(data: bytes) -> None:
    """A capture: its list, its summary, and a file in it."""
    read_summary(io.BytesIO(data), "it")
    machine = CapturedMachine(read_capture(io.BytesIO(data), "it"), HostPath("/"), {})
    for path in ("/opt/tidebook/bin/tidebook", "/etc/os-release"):
        machine.look(MachinePath(path))
        with machine.open(MachinePath(path)) as source:
            source.read_at(0, source.size)


def read_what_was_gathered(data: bytes) -> None:
    """Read the output of a script, and the machine in it."""
    found = read_gathered(io.BytesIO(data), "it")
    machine = GatheredMachine(found, HostPath("/"))
    for path in list(found.listed)[:20]:
        machine.look(MachinePath(path))
        machine.real(MachinePath(path))
    found.content.close()


def read_debian(data: bytes) -> None:
    """A Debian package: what it says of itself, and the files that it brings."""
    source = MemoryBytes(data)
    read_debian_package(source)
    for packed, content in unpack_debian_package(source):
        if not packed.path or ".." in packed.path.split("/"):
            raise RuntimeError(f"the path {packed.path!r} leads elsewhere")
        content.read(1 << 20)


def read_knowledge(data: bytes) -> None:
    """An organisation's own messages and codes."""
    folder = Path(A_VOLUME.root) / "knowledge"
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "own.toml").write_bytes(data)
    load_knowledge([HostPath(str(folder))])


def evaluate_condition(data: bytes) -> None:
    """A condition of an install package; what is none is told as a ValueError."""
    with contextlib.suppress(ValueError):
        evaluate(data.decode("utf-8", "replace"), {"VersionNT": "603", "A": ""}.get)


def read_versions(data: bytes) -> None:
    """A range of versions, and versions held against it."""
    text = data.decode("utf-8", "replace")
    for wanted in (text, ">=1.0, <2"):
        if wanted and not problem_of_range(wanted):
            is_in(text, wanted)
            is_in("1.2.3-rc1", wanted)


def read_unit(data: bytes) -> None:
    """Read the units that want a unit; a name that cannot be filled in is a ValueError."""
    with contextlib.suppress(ValueError):
        read_install(data.decode("utf-8", "replace"), "it@a.service")


def a_capture() -> bytes:
    """A capture with two files."""
    program, release = (BINARIES / "linux-x86_64" / "tidebook").read_bytes(), b"NAME=Marram\n"
    facts = MachineFacts(
        environment={"PATH": "/bin"},
        entries={
            "/opt/tidebook/bin/tidebook": CapturedEntry(
                "file", len(program), "", is_executable=True, changes_account=False
            )
        },
        files={
            "/opt/tidebook/bin/tidebook": CapturedFile(len(program), ((0, len(program), 0),)),
            "/etc/os-release": CapturedFile(len(release), ((0, len(release), len(program)),)),
        },
    )
    manifest = CaptureManifest(
        machine="m", platform=Platform.LINUX, was_running=True, made_at=NOW, of=("x",), files=2,
        bytes=len(program) + len(release), left_out=(), facts_sha256="", content_sha256="",
    )  # fmt: skip
    target = io.BytesIO()
    write_capture(target, manifest, facts, io.BytesIO(program + release))
    return target.getvalue()


LD_DEBUG = b"""      7:\tfind library=libtide.so.2 [0]; searching
      7:\t search path=/opt/lib:/usr/lib\t\t(RUNPATH from file /opt/bin/tidebook)
      7:\t  trying file=/opt/lib/libtide.so.2
      7:\tcalling init: /opt/lib/libtide.so.2
"""
CONTROL = (
    b"Package: tide\nVersion: 4.2-1\nArchitecture: amd64\nDepends: libc6 (>= 2.3) | musl, salt\nDescription: x\n more\n"
)
A_DEB = (
    b"!<arch>\n"
    + _part("debian-binary", b"2.0\n")
    + _part("control.tar.gz", a_tar({"./control": CONTROL, "./md5sums": b"0" * 32 + b"  usr/lib/x\n"}))
    + _part("data.tar.gz", a_tar({"./usr/lib/x": b"x"}))
)
KNOWN = load_knowledge()
SCANNER = Scanner(KNOWN)
SETTINGS = {
    SettingFormat.JSON: b'{"tide": {"station": "Marram", "berths": [1, {"a": null}]}}',
    SettingFormat.TOML: b'[tide]\nstation = "Marram" # here\nberths = [1, 2]\n[[tide.gauge]]\nn = 1\n',
    SettingFormat.YAML: b"tide:\n  station: Marram  # here\n  berths:\n  - 1\n  - {a: [b, c]}\n",
    SettingFormat.XML: b"<?xml version='1.0'?><tide><station name=\"Marram\">x</station><!-- here --></tide>",
    SettingFormat.INI: b"; here\n[tide]\nstation = Marram\n[berth]\nn=1\n",
    SettingFormat.SHELL: b"export PATH=/usr/bin:/bin\ntide='x y' # here\n",
    SettingFormat.SYSCTL: b"kernel.sem = 250 32000 32 128\n# here\ntide/station=1\n",
}


def inputs() -> list[tuple[str, bytes, Callable[[bytes], object]]]:
    """(name, bytes, reader) for every kind of file."""
    found: list[tuple[str, bytes, Callable[[bytes], object]]] = [
        (f"{path.parent.name}/{path.name}", path.read_bytes(), read_executable) for path in sorted(BINARIES.glob("*/*"))
    ]
    managed = a_managed(
        "Tide", refers_to=(CORE, "Salt, 1.0.0.0"), target=".NETFramework,Version=v4.8", calls=("a.dll",)
    )
    built = {
        "a managed image": managed,
        "a version resource": a_pe(version=(4, 2, 1, 0), product="Saltgrass"),
        "a manifest inside": a_pe(manifest=MANIFEST.decode()),
    }
    compiled = {path.name: path.read_bytes() for path in sorted((TESTS / "data").glob("*.*")) if path.suffix != ".c"}
    found += [(name, data, read_executable) for name, data in (built | compiled).items()]
    found += [
        ("a text hive", HIVE, read_hive),
        ("an API set schema", SCHEMA, read_api_sets),
        ("a manifest", MANIFEST, read_manifest),
        ("a configuration file", CONFIG, read_app_config),
        ("a runtime configuration", RUNTIME_CONFIG, read_runtime_config),
        ("a list of dependencies", DEPENDENCIES, read_assets),
        ("an offline hive", a_hive({"Salt": {"Build": 42, "Parts": ("a", "b")}, "Reed": {"": "x"}}), read_offline_hive),
        ("a shared cache", a_dyld_cache("arm64e", "/usr/lib/a.dylib", "/usr/lib/b.dylib"), read_shared_cache),
        ("classes of Java", an_archive(17, "lib/salt.jar", libsalt_so=b"\x7fELF" + bytes(80)), read_executable),
        ("a class file", a_class(21), read_executable),
        ("a script", b"#!/usr/bin/env -S A=1 python3 -u\n'''exec' /opt/x \"$0\" \"$@\"\n", read_executable),
        ("a static library", AN_ARCHIVE, lambda data: read_archive(MemoryBytes(data))),
        ("a build's log", LOG, lambda data: read_build_log(data.decode("utf-8", "replace"))),
        ("a linker script", SCRIPT, lambda data: read_linker_script(data.decode("utf-8", "replace"), "libc.so")),
        ("a property list", plistlib.dumps({"ProductVersion": "14.2", "A": [1, {"B": True}]}), read_list),
        ("a binary property list", plistlib.dumps({"A": [1, b"x", {"B": 2.5}]}, fmt=plistlib.FMT_BINARY), read_list),
        ("a loader's trace", TRACE, lambda data: LoaderTrace().feed(data)),
    ]
    cache = Path("/etc/ld.so.cache")
    if cache.exists():
        found.append(("ld.so.cache", cache.read_bytes(), lambda data: read_ld_cache(MemoryBytes(data))))
    signed = PUBLISHER.sign(a_pe(), stamped_at=NOW, countersigned_at=NOW, nested=[PUBLISHER.signature_of(a_pe())])
    found += [
        ("a signed program", signed, judge_signature),
        ("a signed cabinet", (TESTS / "data" / "saltgrass.cab").read_bytes(), judge_signature),
        ("a signed package", (TESTS / "data" / "saltgrass.msi").read_bytes(), judge_signature),
        ("a cabinet", (TESTS / "data" / "saltgrass.cab").read_bytes(), unpack_everything),
        ("a cabinet packed with LZX", AN_LZX_CABINET, unpack_everything),
        *((f"{name} of a set", data, unpack_set) for name, data in A_SET.items()),
        ("a registry hive", A_HIVE, change_hive),
        ("a text hive that is changed", HIVE, change_text_hive),
        ("a cold copy", AN_ARCHIVED_COPY, check_cold_copy),
        ("a list of a cold copy", manifest_bytes(A_COPY), lambda data: read_manifest_of_copy(data, "1.json")),
        ("a plan", A_PLAN, lambda data: read_plan(data, "plan")),
        ("an installer's log", INSTALLER_LOG, read_log),
        ("an install package", (TESTS / "data" / "saltgrass.msi").read_bytes(), unpack_everything),
        ("a package that concludes", (TESTS / "data" / "tidebook.msi").read_bytes(), look_into_package),
        ("a shell script", _SCRIPT, read_script_of),
        ("a toolchain's catalogue", _TOOLCHAIN, lambda data: written_toolchain(read_toolchain(data, "it"))),
        ("a sheet", Path(ready_path("database-server")).read_bytes(), read_sheet_of),
        ("a disc image", a_disc_image(), unpack_everything),
        ("an archive", an_archive(17, "lib/salt.jar", libsalt_so=b"\x7fELF" + bytes(80)), unpack_everything),
        ("a tar archive", a_tar(), unpack_everything),
        ("a shard of descriptions", packed_shard([PACKAGE]), lambda data: read_shard(data, "shard")),
        ("a lock file", LOCK.encode(), lambda data: read_lock_file(data.decode("utf-8", "replace"), "lock")),
        ("a catalogue of files", a_catalogue(PUBLISHER, ("sha256", bytes(32))), judge_catalogue),
        ("certificates in PEM", PUBLISHER.root.pem + PUBLISHER.authority.pem, read_all_certificates),
        ("a certificate", PUBLISHER.signer.der, read_all_certificates),
        ("a revocation list", PUBLISHER.authority.revocations((PUBLISHER.signer, NOW)), read_all_certificates),
        ("a PKCS #7 bundle", PUBLISHER.signature_of(a_pe()), read_all_certificates),
        ("a Java keystore", (TESTS / "data" / "trust.jks").read_bytes(), read_all_certificates),
        ("a PKCS #12 keystore", (TESTS / "data" / "trust.p12").read_bytes(), read_all_certificates),
        ("a stored certificate", STORED, lambda data: read_stored_blob(data, "Blob")),
        ("a unit", UNIT, read_unit),
        ("a capture", a_capture(), read_a_capture),
        ("a loader's report", LD_DEBUG, read_ld_debug),
        ("a condition", b'NOT Installed AND (VersionNT >= 600 OR A <> "x") XOR B~="y"', evaluate_condition),
        ("a range of versions", b">=4.2, <5 || 6.*", read_versions),
        ("what was gathered", GATHERED, read_what_was_gathered),
        ("what was gathered, packed", gzip.compress(GATHERED), read_what_was_gathered),
        ("a Debian package", A_DEB, read_debian),
        ("messages of an organisation", OWN_MESSAGES.encode(), read_knowledge),
    ]
    native = (BINARIES / "linux-x86_64" / "libsaltgrass-tide.so.4").read_bytes()
    metadata = b"Metadata-Version: 2.1\nName: salt\nVersion: 4.2\n"
    wheel = a_zip({"salt-4.2.dist-info/METADATA": metadata, "salt/_tide.so": native})
    secrets = [line for line in (TESTS / "data" / "secrets" / "forms.txt").read_text().splitlines() if "⟦" in line]
    found += [
        ("a wheel", wheel, look_into_wheel),
        ("a text with secrets", re.sub("[⟦⟧]", "", "\n".join(secrets[::12])).encode(), show_text),
        ("a page", "\x1b[1mSalt\x1b[0m \x1b]0;x\x07 \u202egrass\u200b".encode(), show_text),
    ]
    found += [(f"a setting in {form}", data, change_setting(form)) for form, data in SETTINGS.items()]
    found += [(f"a text, {case.name}", case.text.encode(), read_log) for case in [*cases()][::60]]
    packed = gzip.compress(LOG * 30)
    found += [
        ("a packed log", packed, read_packed_log),
        ("a bundle of logs", a_zip({"a.log": LOG * 9}), read_packed_log),
    ]
    return found


class Target(NamedTuple):
    """A reader with the sound inputs of its kind."""

    name: str
    reader: Callable[[bytes], object]
    seeds: tuple[bytes, ...]


def targets() -> list[Target]:
    """Every reader once."""
    by_reader: dict[str, Target] = {}
    for name, data, reader in inputs():
        named = getattr(reader, "__name__", name)
        key = name if named == "<lambda>" else named
        seeds = by_reader[key].seeds if key in by_reader else ()
        by_reader[key] = Target(key, reader, (*seeds, data))
    return list(by_reader.values())


def file_name(name: str) -> str:
    """A target's name as that of a file."""
    return re.sub(r"\W+", "-", name)


def fuzzed_inputs(target: Target) -> list[bytes]:
    """Inputs that fuzzing found: those that broke the reader once, and some that reach much of it."""
    folder = TESTS / "data" / "fuzzed" / file_name(target.name)
    return [path.read_bytes() for path in sorted(folder.glob("*"))]
