"""Conclusions of an install package from its findings: leftovers, conditions, features, earlier versions."""

import hashlib
import io
import zipfile
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.idt import TABLES, harbour_tables
from builders.machine import ALinuxMachine, AWindowsMachine
from builders.pe import a_pe
from builders.signing import APublisher, a_catalogue
from conftest import Fundamen
from fundamen.evidence.debian_needs import find_needs
from fundamen.formats.archives.msi_condition import evaluate
from fundamen.formats.archives.msi_database import Database, Row
from fundamen.installers.msi_run import Conclusion, conclude

if TYPE_CHECKING:
    from fundamen.formats.archives.compound_file import CompoundFile

PACKAGE = Path(__file__).parent.parent / "data" / "tidebook.msi"
OLD, OLD_PACKED = "{11111111-2222-4333-8444-555555555555}", "11111111222233344844555555555555"
UPGRADE_PACKED = "AAAAAAAABBBBCCC4D8DDEEEEEEEEEEEE"


def a_database(**tables: list[dict[str, Any]]) -> Database:
    """Tables as they are read, without a file around them."""
    rows = {name: cast("tuple[Row, ...]", tuple(listed)) for name, listed in tables.items()}
    return Database(cast("CompoundFile", None), rows, {}, "Intel;1033")


def harbour() -> Database:
    return a_database(
        **{
            name: [
                {column: int(cell) if kind[0] in "iI" and cell else (cell or None) for column, kind, cell in each}
                for each in (zip(columns.split(), types.split(), row, strict=True) for row in rows)
            ]
            for name, rows in harbour_tables().items()
            for columns, types, _ in [TABLES[name]]
        }
    )


def on(windows: AWindowsMachine, software: dict[str, Any] | None = None, **given: str) -> Conclusion:
    windows.system().registry(software or {}, {})
    return conclude(windows.opened(), harbour(), given)


def chosen(conclusion: Conclusion) -> dict[str, bool | None]:
    return {part.name: part.is_chosen for part in conclusion.parts}


def test_a_leftover_is_believed_and_reported_and_a_property_overrules_it(windows: AWindowsMachine) -> None:
    left = {"WOW6432Node": {"Saltgrass": {"4": {"Folder": "C:\\Saltgrass"}}}}
    misled = on(windows, left)
    assert chosen(misled) == {"Tidebook": True, "Runtime": False, "Charts": True}
    assert (misled.properties["RUNTIME4"], misled.leftovers) == ("C:\\Saltgrass", ("C:\\Saltgrass",))
    assert chosen(on(windows, left, BUNDLED="1"))["Runtime"] is True
    windows.file("C:\\Saltgrass\\salt.dll", b"")
    assert on(windows, left).leftovers == ()


def test_a_32_bit_package_does_not_see_what_64_bit_ones_have_registered(windows: AWindowsMachine) -> None:
    found = on(windows, {"Saltgrass": {"4": {"Folder": "C:\\Saltgrass"}}})
    assert "RUNTIME4" not in found.properties
    [stop] = found.hindrances
    assert stop.says == "Tidebook needs the Saltgrass Runtime 4 of Ardvane Instruments."


def test_a_message_stops_the_run_where_its_condition_holds_and_own_code_is_only_named(windows: AWindowsMachine) -> None:
    version = {"Microsoft": {"Windows NT": {"CurrentVersion": {"CurrentVersion": "5.1", "CurrentBuild": "2600"}}}}
    found = on(windows, version, BUNDLED="1")
    assert [each.says for each in found.hindrances] == ["This Windows is too old."]
    [code] = found.actions
    assert (code.what, code.holds, dict(code.asked)["LogonUser"]) == ("TuneSystem", None, None)


@pytest.mark.parametrize(("version", "is_found"), [("1.5.0", True), ("2.0.0", False), ("1.99.9.7", True), ("3", False)])
def test_an_earlier_version_is_found_by_its_upgrade_code(
    windows: AWindowsMachine,
    version: str,
    is_found: bool,  # noqa: FBT001 - a column
) -> None:
    product = {"DisplayName": "Tidebook", "DisplayVersion": version, "InstallLocation": "C:\\Gone\\"}
    installer: Any = {
        "UpgradeCodes": {UPGRADE_PACKED: {OLD_PACKED: ""}},
        "UserData": {"S-1-5-18": {"Products": {OLD_PACKED: {"InstallProperties": product}}}},
    }
    found = on(windows, {"Microsoft": {"Windows": {"CurrentVersion": {"Installer": installer}}}}, BUNDLED="1")
    assert [(each.code, each.leftover) for each in found.related] == [(OLD, "C:\\Gone\\")] * is_found
    assert found.properties.get("OLDER") == (OLD if is_found else None)


def test_searches_that_lead_in_a_ring_end(windows: AWindowsMachine) -> None:
    ring = a_database(
        AppSearch=[{"Property": "A", "Signature_": "one"}],
        DrLocator=[
            {"Signature_": "one", "Parent": "two", "Path": "x", "Depth": 0},
            {"Signature_": "two", "Parent": "one", "Path": "x", "Depth": 0},
        ],
    )
    assert conclude(windows.opened(), ring, {}).searches[0].value == ""


@given(st.text(alphabet='ABN OT=<>~"()1-%$ andor', max_size=60))
def test_any_text_is_a_condition_or_none(text: str) -> None:
    try:
        holds = evaluate(text, lambda _: "1").holds
    except ValueError as error:
        assert str(error)  # noqa: PT017 - either is right, and a reason is given
    else:
        assert holds in {True, False}


@given(
    st.recursive(
        st.sampled_from(["A", "B", "U"]), lambda inner: st.tuples(st.sampled_from(["AND", "OR", "IMP"]), inner, inner)
    )
)
def test_what_is_known_of_a_condition_stays_so_whatever_the_unknown_is(tree: Any) -> None:
    def written(node: Any) -> str:
        return node if isinstance(node, str) else f"({written(node[1])} {node[0]} {written(node[2])})"

    def held(unknown: str | None) -> bool | None:
        values = {"A": "1", "B": "", "U": unknown}
        return evaluate(written(tree), values.__getitem__).holds

    if (answer := held(None)) is not None:
        assert held("1") == held("") == answer


def test_the_needs_of_a_debian_package_stand_by_debians_rules() -> None:
    installed = {"libc6": [("2.36-9", "amd64")], "mawk": [("1.3", "amd64")], "old": [("1.0~rc1", "all")]}
    fields = {
        "Depends": "libc6 (>= 2.30), libssl3, awk, nothing | mawk, old (>= 1.0), libc6 (<< 2.36-9)",
        "Breaks": "old (<< 1.0), libc6 (<< 2.0), absent",
    }
    needs = list(find_needs(fields, installed, {"awk": [""]}))
    assert [(need.text, need.is_met) for need in needs] == [
        ("libc6 (>= 2.30)", True),
        ("libssl3", False),
        ("awk", True),
        ("nothing | mawk", True),
        ("old (>= 1.0)", False),
        ("libc6 (<< 2.36-9)", False),
        ("old (<< 1.0)", False),
        ("libc6 (<< 2.0)", True),
    ]


def test_the_built_command_tells_what_a_package_concludes_and_what_a_property_changes(
    fundamen: Fundamen, windows: AWindowsMachine
) -> None:
    windows.system().registry({"WOW6432Node": {"Saltgrass": {"4": {"Folder": "C:\\Saltgrass"}}}}, {})
    machine = ("--machine", str(windows.root))
    misled = fundamen("installer", *machine, PACKAGE)
    assert misled.status == 1
    assert "will decide wrongly here" in misled.out
    assert misled.out.splitlines()[-1].endswith("--set BUNDLED=1")
    [record] = fundamen("installer", *machine, PACKAGE, "--set", "BUNDLED=1", "--json").records
    assert "feature Runtime: no -> yes" in [each["text"] for each in record["overruled"]]
    assert [each["text"] for each in record["next"]] == [f"msiexec /i {PACKAGE} BUNDLED=1"]
    assert {each["name"]: each["is_chosen"] for each in record["features"]} == {
        "Tidebook": True,
        "Runtime": True,
        "Charts": True,
    }
    assert fundamen("installer", *machine, PACKAGE, "--set", "bundled=1").status == 2


def test_what_a_self_extracting_program_bundles_is_named_packages_in_packages_too(
    fundamen: Fundamen, linux: ALinuxMachine, tmp_path: Path
) -> None:
    inner, outer = io.BytesIO(), io.BytesIO()
    with zipfile.ZipFile(inner, "w") as archive:
        archive.writestr("tidebook.msi", PACKAGE.read_bytes())
    with zipfile.ZipFile(outer, "w") as archive:
        archive.writestr("prerequisites/parts.zip", inner.getvalue())
        archive.writestr("setup.ini", "[setup]\nruntime = 4\n")
    (tmp_path / "setup.exe").write_bytes(a_pe() + outer.getvalue())
    [record] = fundamen("installer", "--machine", str(linux.root), "setup.exe", "--json").records
    assert record["steering"] == ["setup.ini"]
    bundled = [(each["path"], each["name"], each["version"]) for each in record["bundled"] if each["is_package"]]
    assert bundled == [
        ("prerequisites/parts.zip", "", ""),
        ("prerequisites/parts.zip: tidebook.msi", "Tidebook", "2.0.0"),
    ]


def test_packages_that_are_cut_nested_without_end_or_none_are_reported_and_the_others_looked_into(
    fundamen: Fundamen, windows: AWindowsMachine, tmp_path: Path
) -> None:
    windows.system().registry({}, {})
    data = PACKAGE.read_bytes()
    for name, size in (("cut1.msi", 400), ("cut2.msi", len(data) // 2), ("cut3.msi", len(data) - 600)):
        (tmp_path / name).write_bytes(data[:size])
    nested = b"PK\x05\x06" + bytes(18)
    for _ in range(6):
        archive = io.BytesIO()
        with zipfile.ZipFile(archive, "w") as packed:
            packed.writestr("again.zip", nested)
        nested = archive.getvalue()
    (tmp_path / "nested.zip").write_bytes(nested)
    (tmp_path / "none.msi").write_text("no package\n")
    names = ("cut1.msi", "cut2.msi", "cut3.msi", "none.msi", "gone.msi", "nested.zip", str(PACKAGE))
    ran = fundamen("installer", "--machine", str(windows.root), *names, "--json")
    assert "Traceback" not in ran.err
    *refused, deep, whole = ran.records
    assert all(each["error"] for each in refused)
    assert ran.status == 3
    assert deep["bundled"][-1]["problem"]["code"] == "installers.packages-in-packages-are-looked-into"
    assert whole["name"] == "Tidebook"


def test_a_package_is_unpacked_with_one_setting_changed_whole_or_not_at_all(fundamen: Fundamen, tmp_path: Path) -> None:
    packed = io.BytesIO()
    with zipfile.ZipFile(packed, "w") as archive:
        archive.writestr("setup.ini", "; how to set up\n[setup]\nruntime = 4\n")
        archive.writestr("parts/tide.dll", b"x" * 3_000_000)
    setup = tmp_path / "setup.exe"
    setup.write_bytes(a_pe() + packed.getvalue())
    before = setup.read_bytes()
    edit = ("--edit", "setup.ini", "setup/runtime", "4.2")
    ran = fundamen("installer", setup, "--unpack", "copy", *edit)
    assert (ran.status, "setup.runtime: 4 -> 4.2" in ran.out) == (0, True)
    assert (tmp_path / "copy/setup.ini").read_text() == "; how to set up\n[setup]\nruntime = 4.2\n"
    assert (tmp_path / "copy/parts/tide.dll").read_bytes() == b"x" * 3_000_000
    assert setup.read_bytes() == before
    assert fundamen("installer", setup, "--unpack", "copy").status == 2
    assert fundamen("installer", setup, "--unpack", "other", "--edit", "gone.ini", "a/b", "1").status == 2
    setup.write_bytes(before[: len(before) - 200])
    assert fundamen("installer", setup, "--unpack", "other").status in {2, 3}
    assert sorted(path.name for path in tmp_path.iterdir() if path.name != "home") == ["copy", "setup.exe"]
    publisher, ini = APublisher(), b"[setup]\nruntime = 4\n"
    with zipfile.ZipFile(packed := io.BytesIO(), "w") as archive:
        archive.writestr("setup.ini", ini)
        archive.writestr("setup.cat", a_catalogue(publisher, ("sha256", hashlib.sha256(ini).digest())))
    setup.write_bytes(publisher.sign(a_pe() + packed.getvalue()))
    signed = fundamen("installer", setup, "--unpack", "signed", *edit)
    assert "It is signed by Ardvane Instruments; that signature covers the package, and not this copy." in " ".join(
        signed.out.split()
    )
    assert "setup.ini was covered by the signed catalogue setup.cat, and is not any more." in signed.out
    altered = bytearray(setup.read_bytes())
    altered[0x30] ^= 1  # a word of the image's first header that no one reads
    setup.write_bytes(altered)
    [record] = fundamen("installer", setup, "--unpack", "altered", "--json").records
    assert (record["signer"], record["signature_holds"], record["uncovered"]) == ("Ardvane Instruments", False, {})
    [record] = fundamen("installer", PACKAGE, "--unpack", "other", "--json").records
    assert record["error"]["do"]["code"] == "installers.use-set-name-value-instead"
