"""Programs that another program performs: scripts, classes of Java, modules and environments of Python."""

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.elf import an_elf
from builders.java import a_class, an_archive
from builders.machine import LOADER, ALinuxMachine
from fundamen.formats.binary import read_binary
from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.managed.java import JavaClasses
from fundamen.formats.unix.script import Script, read_script
from fundamen.messages import say
from fundamen.model.binary import Binary
from fundamen.model.errors import FundamenError
from fundamen.model.verdict import Verdict
from wording import says

APP = "/opt/tidebook/tidebook"


def faults(linux: ALinuxMachine, program: str = APP, **environment: str) -> dict[str, Verdict]:
    return {fault.name: fault.verdict for fault in linux.trace(program, **environment).faults}


def a_script(linux: ALinuxMachine, first_lines: str) -> ALinuxMachine:
    return linux.file(APP, first_lines.encode(), 0o755)


def a_java(linux: ALinuxMachine, version: str, folder: str) -> ALinuxMachine:
    linux.program(f"{folder}/bin/java", needs=()).file(f"{folder}/release", f'JAVA_VERSION="{version}"\n'.encode())
    return linux


# Scripts.


@pytest.mark.parametrize(
    ("line", "interpreter", "argument", "looked_up"),
    [
        (b"#!/bin/sh\n", "/bin/sh", "", ""),
        (b"#! /bin/sh -e -u \t\n", "/bin/sh", "-e -u", ""),
        (b"#!/usr/bin/env python3\n", "/usr/bin/env", "python3", "python3"),
        (b"#!/usr/bin/env -S A=1 python3 -u\n", "/usr/bin/env", "-S A=1 python3 -u", "python3"),
        (b"#!/usr/bin/env -S -u HOME perl\n", "/usr/bin/env", "-S -u HOME perl", "perl"),
        (b"#!/bin/sh\r\necho\r\n", "/bin/sh\r", "", ""),
        (b"#!/bin/sh", "/bin/sh", "", ""),
    ],
)
def test_the_first_line_is_read_as_the_kernel_reads_it(
    line: bytes, interpreter: str, argument: str, looked_up: str
) -> None:
    script = read_script(MemoryBytes(line))
    assert (script.interpreter, script.argument, script.looked_up) == (interpreter, argument, looked_up)
    assert script.is_intact


@pytest.mark.parametrize("line", [b"#!\n", b"#!   \n", b"\xef\xbb\xbf#!/bin/sh\n", b"#!/" + b"a" * 300 + b"/python\n"])
def test_a_first_line_that_names_nothing_whole_is_damage(line: bytes) -> None:
    assert not read_script(MemoryBytes(line)).is_intact


@given(st.binary(max_size=300))
def test_any_first_line_is_read(line: bytes) -> None:
    script = read_binary(MemoryBytes(b"#!" + line))
    assert isinstance(script, Script)
    assert isinstance(script.looked_up, str)


def test_a_script_depends_on_its_interpreter_and_on_all_that_this_needs(linux: ALinuxMachine) -> None:
    a_script(linux.program("/bin/tish", needs=("libsalt.so.4",)), "#!/bin/tish\n")
    assert faults(linux) == {"libsalt.so.4": Verdict.MISSING}
    [need] = [c for c in linux.trace(APP).components if c.name == "libsalt.so.4"]
    assert need.chain == (APP, "/bin/tish")


def test_a_missing_interpreter_is_named_and_a_carriage_return_is_shown(linux: ALinuxMachine) -> None:
    assert faults(a_script(linux, "#!/bin/tish\n")) == {"/bin/tish": Verdict.MISSING}
    linux.program("/bin/tish")
    [fault] = a_script(linux, "#!/bin/tish\r\n").trace(APP).faults
    assert (fault.name, "carriage return" in fault.reason) == ("/bin/tish\r", True)


def test_what_env_looks_up_is_looked_for_on_path(linux: ALinuxMachine) -> None:
    a_script(linux.program("/usr/bin/env"), "#!/usr/bin/env tish\n").program("/opt/bin/tish")
    assert faults(linux, PATH="/usr/bin:/opt/bin") == {}
    assert faults(linux, PATH="/usr/bin") == {"tish": Verdict.MISSING}
    linux.file("/usr/bin/tish", an_elf(interpreter=LOADER), 0o644)
    assert faults(linux, PATH="/usr/bin") == {"tish": Verdict.BLOCKED}


def test_a_script_may_be_carried_out_by_another_script_but_not_without_end(linux: ALinuxMachine) -> None:
    linux.program("/bin/tish").file("/bin/outer", b"#!/bin/tish\n", 0o755)
    assert faults(a_script(linux, "#!/bin/outer\n")) == {}
    linux.file("/bin/outer", b"#!/bin/outer\n", 0o755)
    assert list(faults(linux).values()) == [Verdict.CORRUPT]


def test_a_shell_that_only_hands_over_leads_to_the_interpreter_of_the_second_line(linux: ALinuxMachine) -> None:
    linux.program("/bin/sh")
    a_script(linux, "#!/bin/sh\n'''exec' \"/opt/my tools/python\" \"$0\" \"$@\"\n' '''\n")
    assert faults(linux) == {"/opt/my tools/python": Verdict.MISSING}


def test_a_program_that_no_one_may_run_is_blocked(linux: ALinuxMachine) -> None:
    linux.file(APP, an_elf(interpreter=LOADER), 0o644)
    [fault] = linux.trace(APP).faults
    assert fault.verdict is Verdict.BLOCKED


# Java.


def test_a_runtime_that_is_too_old_is_outdated_and_one_that_another_hides_is_shadowed(linux: ALinuxMachine) -> None:
    linux.file("/opt/tide.jar", an_archive(21))
    assert faults(linux, "/opt/tide.jar") == {"Java 21": Verdict.MISSING}
    a_java(linux, "1.8.0_392", "/usr/lib/jvm/eight")
    assert faults(linux, "/opt/tide.jar") == {"Java 21": Verdict.OUTDATED}
    a_java(linux, "21.0.2", "/usr/lib/jvm/tidal")
    [fault] = linux.trace("/opt/tide.jar").faults
    assert (fault.verdict, fault.remedy) == (Verdict.SHADOWED, "/usr/lib/jvm/tidal/bin/java -jar /opt/tide.jar")
    assert faults(linux, "/opt/tide.jar", PATH="/usr/lib/jvm/tidal/bin") == {}


def test_the_class_path_of_the_manifest_is_followed_and_its_classes_count(linux: ALinuxMachine) -> None:
    a_java(linux, "17.0.9", "/opt/java")
    linux.file("/opt/tide.jar", an_archive(8, class_path="lib/salt.jar lib/none.jar http://x/y.jar"))
    linux.file("/opt/lib/salt.jar", an_archive(11, class_path="reed.jar"))
    trace = linux.trace("/opt/tide.jar")
    assert trace.faults == ()
    missing = {c.name for c in trace.components if c.verdict is Verdict.MISSING}
    assert missing == {"lib/none.jar", "reed.jar"}
    linux.file("/opt/lib/reed.jar", an_archive(21))
    assert faults(linux, "/opt/tide.jar") == {"Java 21": Verdict.OUTDATED}


def test_classes_that_only_newer_releases_read_ask_for_nothing(linux: ALinuxMachine) -> None:
    a_java(linux, "11.0.2", "/opt/java")
    newer = {"META-INF__versions__21__ardvane__Tide_class": a_class(21), "module-info_class": a_class(21)}
    linux.file("/opt/tide.jar", an_archive(8, "", **newer))
    assert faults(linux, "/opt/tide.jar") == {}


def test_native_libraries_for_another_processor_are_remarked_on(linux: ALinuxMachine) -> None:
    a_java(linux, "17", "/opt/java").file("/opt/tide.jar", an_archive(8, libsalt_so=an_elf("aarch64")))
    [remark] = linux.trace("/opt/tide.jar").components[0].remarks
    assert remark == say(
        "loaders.the-native-libraries-that-it-brings", found="Linux on aarch64", wanted="Linux on x86_64"
    )


def test_archives_and_class_files_that_are_cut_or_changed_are_read_or_refused() -> None:
    def read(data: bytes) -> Binary | None:
        try:
            return read_binary(MemoryBytes(data))
        except FundamenError:
            return None

    archive = an_archive(17, libsalt_so=an_elf("x86"))
    whole = read(archive)
    assert isinstance(whole, JavaClasses)
    assert (whole.java, whole.newest_class, whole.main_class) == (17, "ardvane.Tide", "Tide")
    for length in range(4, len(archive)):
        cut = read(archive[:length])
        assert cut is None or cut.problems, length
    for at in range(len(archive)):
        read(archive[:at] + bytes([archive[at] ^ 0xFF]) + archive[at + 1 :])
    for length in range(4, 10):
        cut = read(a_class(8)[:length])
        assert cut is None or cut.problems, length


# Python.


def test_an_environment_whose_interpreter_has_gone_says_so(linux: ALinuxMachine) -> None:
    linux.file("/opt/env/pyvenv.cfg", b"home = /opt/python3.9/bin\nversion = 3.9.2\n")
    linux.link("/opt/env/bin/python", "/opt/python3.9/bin/python3.9").program("/usr/bin/python3.11")
    [fault] = a_script(linux, "#!/opt/env/bin/python\n").trace(APP).faults
    assert says(
        fault.reason,
        "loaders.the-environment-was-made-with-python",
        folder="/opt/env",
        made_with="3.9",
        home="/opt/python3.9/bin",
        here=say("loaders.here-are-versions", others="3.11"),
    )


def test_an_environment_whose_interpreter_has_changed_its_version_is_outdated(linux: ALinuxMachine) -> None:
    linux.file("/opt/env/pyvenv.cfg", b"home = /usr/bin\nversion_info = 3.9.2\n").program("/usr/bin/python3.11")
    linux.link("/usr/bin/python3", "python3.11").link("/opt/env/bin/python", "/usr/bin/python3")
    linux.file("/opt/env/lib/python3.9/site-packages/tide.py", b"")
    [fault] = a_script(linux, "#!/opt/env/bin/python\n").trace(APP).faults
    assert (fault.kind, fault.verdict) == ("environment", Verdict.OUTDATED)
    assert says(fault.reason, "loaders.is-python-now")


def test_an_extension_module_needs_the_very_version_that_its_name_says(linux: ALinuxMachine) -> None:
    module = "/usr/lib/python3.11/site-packages/tide.cpython-39-x86_64-linux-gnu.so"
    linux.library(module).program("/usr/bin/python3.11")
    trace = linux.trace(module)
    assert {fault.name: fault.verdict for fault in trace.faults} == {"Python 3.9": Verdict.MISSING}
    assert trace.components[0].remarks == (say("loaders.python-in-whose-folder-it-lies", lies_in="3.11"),)
    assert faults(linux.program("/usr/bin/python3.9"), module) == {}
