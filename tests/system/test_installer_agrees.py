"""The installer service of a real prefix is the truth: what it finds, holds and chooses is what was foreseen."""

import os
import shutil
import subprocess
from collections.abc import Iterator
from pathlib import Path

import pytest

from builders.idt import a_package, harbour_tables
from builders.prefix import a_prefix
from conftest import Fundamen
from fundamen.formats.archives.compound_file import CompoundFile
from fundamen.formats.archives.msi_condition import evaluate
from fundamen.formats.archives.msi_database import read_database
from fundamen.formats.byte_source import MemoryBytes
from fundamen.installers.msi_run import Conclusion, conclude
from fundamen.machine.opening import open_machine
from wording import says

pytestmark = pytest.mark.system

WINE, SERVER = "/usr/lib/wine/wine64", "/usr/lib/wine/wineserver64"
# Asks the service itself: opens a package, does the actions, and writes what each line asks for.
ASKS = r"""
#include <windows.h>
#include <msi.h>
#include <msiquery.h>
#include <stdio.h>
#include <string.h>
int main(int argc, char **argv) {
    MSIHANDLE run; char line[1024], value[4096]; DWORD size; INSTALLSTATE now, then;
    MsiSetInternalUI(INSTALLUILEVEL_NONE, 0);
    if (MsiOpenPackageA(argv[1], &run)) return 3;
    FILE *questions = fopen(argv[2], "r"), *answers = fopen(argv[3], "w");
    while (fgets(line, sizeof line, questions)) {
        line[strcspn(line, "\r\n")] = 0;
        switch (line[0]) {
        case 'A': fprintf(answers, "%u\n", MsiDoActionA(run, line + 1)); break;
        case 'S': *strchr(line, '=') = 0; MsiSetPropertyA(run, line + 1, line + strlen(line) + 1); break;
        case 'C': fprintf(answers, "%d\n", MsiEvaluateConditionA(run, line + 1)); break;
        case 'P': size = sizeof value; value[0] = 0; MsiGetPropertyA(run, line + 1, value, &size);
                  fprintf(answers, "%s\n", value); break;
        case 'F': now = then = -9; MsiGetFeatureStateA(run, line + 1, &now, &then);
                  fprintf(answers, "%d\n", then); break;
        }
    }
    fclose(answers);
    return 0;
}
"""
PROPERTIES = {
    "ONE": "1",
    "TEN": "10",
    "NINE": "9",
    "WORD": "Tide",
    "LONG": "Tidebook 4",
    "BITS": "6",
    "HIGH": "196613",
    "NEG": "-3",
}
CONDITIONS = [
    *("TEN > NINE", "TEN < NINE", "TEN >< ONE", 'TEN < "9"', '"10" > "9"', '"10" < "9"', '2 > "1"', '1 <> "1"'),
    *('1 = "1"', '"1" = 1', 'WORD > "5"', 'TEN > "x"', "TEN ~= 10", "HIGH << TEN", "BITS >< TEN", 'BITS >< "2"'),
    *("ONE", "NOPE", "NOT NOPE", "NOT NOT ONE", "ONE AND NOPE", "ONE OR NOPE", "NOPE XOR ONE", "ONE EQV ONE"),
    *("NOPE IMP ONE", "ONE IMP NOPE", "NOPE EQV NOPE", "(ONE)", "(ONE AND NOPE) OR ONE", "ONE AND (NOPE OR ONE)"),
    *(
        "ONE = 1",
        "ONE = 2",
        "ONE <> 2",
        "TEN > 9",
        'TEN > "9"',
        "TEN < 9",
        "TEN >= 10",
        "TEN <= 9",
        "NEG < 0",
        "NEG = -3",
    ),
    *(
        "NEG = -3",
        "WORD = 1",
        "WORD <> 1",
        "WORD > 1",
        "WORD < 1",
        "NOPE = 0",
        "NOPE <> 0",
        'NOPE = ""',
        'NOPE <> ""',
        'ONE = "1"',
    ),
    *('WORD = "Tide"', 'WORD = "tide"', 'WORD ~= "tide"', 'WORD <> "tide"', 'WORD ~<> "tide"', 'WORD < "Tides"'),
    *('LONG >< "book"', 'LONG >< "BOOK"', 'LONG ~>< "BOOK"', 'LONG << "Tide"', 'LONG >> " 4"', 'LONG ~<< "tide"'),
    *("BITS >< 2", "BITS >< 1", "HIGH << 3", "HIGH >> 5", "HIGH << 5", "1", "0", "ONE=1 AND TEN=10 OR NOPE"),
    *("not ONE", "One", "ONE and TEN", "VersionNT", "VersionNT >= 600", "VersionNT < 400", "VersionNT64", "Msix64"),
    *("VersionNT = WindowsBuild", "ONE = TEN", "ONE < TEN", "WORD = WORD", "WORD <> LONG", "Installed", "Privileged"),
    *("ONE = ", "AND", "ONE ONE", "(ONE", "ONE)", "= 1", '"text"', '"" = NOPE', "%PATH", "%NO_SUCH_VARIABLE", "1 = 1"),
    *('"a" < "b"', "NOT (ONE AND NOPE) AND ONE", "NOT ONE = 2", "2 > 1", '"2" > 1', '"x" = 1', "BITS = 6 AND NOT NOPE"),
]
SEARCHES = {
    "RAWTEXT": ("RegLocator", ["raw1", "2", "Software\\Tide", "Name", "18"]),
    "RAWNUMBER": ("RegLocator", ["raw2", "2", "Software\\Tide", "Level", "18"]),
    "RAWMARK": ("RegLocator", ["raw3", "2", "Software\\Tide", "Mark", "18"]),
    "RAWBYTES": ("RegLocator", ["raw4", "2", "Software\\Tide", "Bytes", "18"]),
    "RAWUNNAMED": ("RegLocator", ["raw5", "2", "Software\\Tide", "", "18"]),
    "RAWNARROW": ("RegLocator", ["raw6", "2", "Software\\Tide", "Name", "2"]),
    "RAWGONE": ("RegLocator", ["raw7", "2", "Software\\Tide", "Nothing", "18"]),
    "RAWUSER": ("RegLocator", ["raw8", "1", "Software\\TideUser", "Name", "2"]),
    "RAWEXPAND": ("RegLocator", ["raw9", "2", "Software\\Tide", "Expand", "18"]),
    "FOLDERTHERE": ("RegLocator", ["fold1", "2", "Software\\Tide", "Folder", "16"]),
    "FOLDERGONE": ("RegLocator", ["fold2", "2", "Software\\Tide", "Gone", "16"]),
    "FILEIN": ("RegLocator", ["file1", "2", "Software\\Tide", "Folder", "16"]),
    "FILEAT": ("RegLocator", ["file2", "2", "Software\\Tide", "File", "17"]),
    "FILEGONE": ("RegLocator", ["file3", "2", "Software\\Tide", "GoneFile", "17"]),
    "FILENEWER": ("RegLocator", ["file4", "2", "Software\\Tide", "Library", "17"]),
    "FILETOOOLD": ("RegLocator", ["file5", "2", "Software\\Tide", "Library", "17"]),
    "COMPFOLDER": ("CompLocator", ["comp1", "{99999999-4444-4333-8444-555555555555}", "0"]),
    "COMPGONE": ("CompLocator", ["comp2", "{99999999-0000-4333-8444-555555555555}", "0"]),
    "COMPFILE": ("CompLocator", ["comp3", "{99999999-4444-4333-8444-555555555555}", "0"]),
    "COMPNOFILE": ("CompLocator", ["comp4", "{99999999-4444-4333-8444-555555555555}", "0"]),
    "DIRTHERE": ("DrLocator", ["dir1", "", "C:\\tide", "0"]),
    "DIRGONE": ("DrLocator", ["dir2", "", "C:\\nothing", "0"]),
    "DIRFILE": ("DrLocator", ["dir3", "", "C:\\tide", "0"]),
    "DIRDEEP": ("DrLocator", ["dir4", "", "C:\\tide", "2"]),
    "DIRNOTDEEP": ("DrLocator", ["dir5", "", "C:\\tide", "1"]),
    "DIRPROPERTY": ("DrLocator", ["dir6", "", "[WindowsFolder]system32", "0"]),
    "INIRAW": ("IniLocator", ["ini1", "tide.ini", "store", "berths", "0", "2"]),
    "INIFIELD": ("IniLocator", ["ini2", "tide.ini", "store", "list", "2", "2"]),
    "INIGONE": ("IniLocator", ["ini3", "tide.ini", "store", "none", "0", "2"]),
    "INIFILE": ("IniLocator", ["ini4", "tide.ini", "store", "file", "0", "1"]),
}
SIGNATURES = [
    ["file1", "chart.txt", *[""] * 7],
    ["file2", "chart.txt", *[""] * 7],
    ["file3", "gone.txt", *[""] * 7],
    ["file4", "kernel32.dll", "1.0.0.0", *[""] * 6],
    ["file5", "kernel32.dll", "99.0.0.0", *[""] * 6],
    ["comp3", "chart.txt", *[""] * 7],
    ["comp4", "gone.txt", *[""] * 7],
    ["dir3", "chart.txt", *[""] * 7],
    ["dir4", "deep.txt", *[""] * 7],
    ["dir5", "deep.txt", *[""] * 7],
    ["ini4", "chart.txt", *[""] * 7],
]
FEATURES = {
    "Always": ("", "1", []),
    "Never": ("", "0", []),
    "Later": ("", "200", []),
    "Below": ("Never", "1", []),
    "IfFound": ("", "1", [("0", "RAWTEXT")]),
    "IfGone": ("", "1", [("0", "NOT FOLDERGONE")]),
    "Raised": ("", "200", [("1", 'RAWNUMBER = "#4"')]),
    "Kept": ("", "1", [("0", "NOPE"), ("200", "NOPE2")]),
}
OLD = "{11111111-2222-4333-8444-555555555555}"
UPGRADE = "{AAAAAAAA-BBBB-4CCC-8DDD-EEEEEEEEEEEE}"
UPGRADES = {
    "OLDER": ["", "2.0.0", "0"],
    "SAME": ["1.5.0", "1.5.0", "768"],
    "EDGE": ["1.5.0", "2.0.0", "0"],
    "NEWER": ["2.0.0", "", "256"],
}


@pytest.fixture(scope="module")
def prefix(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Path]:
    folder = a_prefix(tmp_path_factory)
    tide = folder / "drive_c/tide"
    (tide / "a/b").mkdir(parents=True)
    for path in ("chart.txt", "a/b/deep.txt"):
        (tide / path).write_text("depth")
    (folder / "drive_c/windows/tide.ini").write_text(
        "[store]\nberths = 40\nlist = one,two,three\nfile = C:\\tide\\chart.txt\n"
    )
    settings = {
        "Name": ("REG_SZ", "Tidebook"),
        "Level": ("REG_DWORD", "4"),
        "Mark": ("REG_SZ", "#1"),
        "Bytes": ("REG_BINARY", "0aff"),
        "Expand": ("REG_EXPAND_SZ", "%SystemRoot%\\x"),
        "Folder": ("REG_SZ", "C:\\tide"),
        "Gone": ("REG_SZ", "C:\\nothing"),
        "File": ("REG_SZ", "C:\\tide\\chart.txt"),
        "GoneFile": ("REG_SZ", "C:\\tide\\gone.txt"),
        "Library": ("REG_SZ", "C:\\windows\\system32\\kernel32.dll"),
    }
    for name, (kind, value) in settings.items():
        run(folder, "reg", "add", "HKLM\\Software\\Tide", "/v", name, "/t", kind, "/d", value, "/f")
    run(folder, "reg", "add", "HKLM\\Software\\Tide", "/ve", "/t", "REG_SZ", "/d", "unnamed", "/f")
    run(folder, "reg", "add", "HKCU\\Software\\TideUser", "/v", "Name", "/t", "REG_SZ", "/d", "mine", "/f")
    tables = of_product("1.5.0", OLD)
    tables["Directory"].append(["TIDE", "TARGETDIR", "tide"])  # C:\tide, which is there already
    tables["Component"].append(["Charts", "{99999999-4444-4333-8444-555555555555}", "TIDE", "0", "", ""])
    tables["FeatureComponents"].append(["Always", "Charts"])
    old = a_package(folder / "old.msi", tables)
    run(folder, "msiexec", "/i", f"Z:{old}", "/qn")
    source = folder / "asks.c"
    source.write_text(ASKS)
    compiler = ["x86_64-w64-mingw32-gcc", str(source), "-o", str(folder / "drive_c/asks.exe"), "-lmsi"]
    subprocess.run(compiler, check=True, capture_output=True)
    settle(folder)
    yield folder
    shutil.rmtree(folder, ignore_errors=True)


def settle(prefix: Path) -> None:
    """Wait until the registry's files are written."""
    subprocess.run([SERVER, "-w"], env={**os.environ, "WINEPREFIX": str(prefix)}, check=True)


def of_product(version: str, code: str) -> dict[str, list[list[str]]]:
    """The tables of a product that installs one empty component."""
    property_ = {"ProductCode": code, "ProductVersion": version, "ProductName": "Tidebook", "UpgradeCode": UPGRADE}
    more = {"Manufacturer": "Ardvane Instruments", "ProductLanguage": "1033", "ALLUSERS": "1"}
    actions = {
        "FindRelatedProducts": 100,
        "AppSearch": 200,
        "LaunchConditions": 300,
        "CostInitialize": 800,
        "FileCost": 900,
        "CostFinalize": 1000,
        "InstallValidate": 1400,
        "InstallInitialize": 1500,
        "ProcessComponents": 1600,
        "RegisterProduct": 6100,
        "PublishFeatures": 6300,
        "PublishProduct": 6400,
        "InstallFinalize": 6600,
    }
    return {
        "Property": [[name, value] for name, value in (property_ | more).items()],
        "Directory": [["TARGETDIR", "", "SourceDir"]],
        "Component": [["Whole", "{99999999-2222-4333-8444-555555555555}", "TARGETDIR", "0", "", ""]],
        "Feature": [["Always", "", "Always", "", "1", "1", "TARGETDIR", "0"]],
        "FeatureComponents": [["Always", "Whole"]],
        "Media": [["1", "0", "", "", "", ""]],
        "InstallExecuteSequence": [[name, "", str(number)] for name, number in actions.items()],
    }


def run(prefix: Path, *words: str) -> None:
    environment = {**os.environ, "WINEPREFIX": str(prefix), "DISPLAY": "", "WINEDEBUG": "-all"}
    subprocess.run(
        [WINE, *words],
        env=environment,
        stdout=subprocess.DEVNULL,
        stderr=subprocess.DEVNULL,
        timeout=300,
        check=False,
    )


def install(prefix: Path, made: Path, *words: str) -> None:
    """Install a package; now and then a run in a prefix ends without having done a thing, and is repeated then."""
    for _ in range(3):
        run(prefix, "msiexec", "/i", *words, "/qn")
        settle(prefix)
        if made.is_dir():
            return
    raise AssertionError(made)


def answers(prefix: Path, package: Path, questions: list[str]) -> list[str]:
    """The answers of the service, a line for each question but those that only set a property."""
    (prefix / "questions").write_text("\n".join(questions) + "\n")
    (prefix / "answers").unlink(missing_ok=True)
    run(prefix, "C:\\asks.exe", f"Z:{package}", f"Z:{prefix}/questions", f"Z:{prefix}/answers")
    return (prefix / "answers").read_text().splitlines()


def foreseen(prefix: Path, package: Path, **given: str) -> Conclusion:
    database = read_database(CompoundFile(MemoryBytes(package.read_bytes(), "package")), "The package")
    return conclude(open_machine(str(prefix), environment={}), database, given)


def test_each_condition_holds_where_the_service_says_so(prefix: Path) -> None:
    package = a_package(prefix / "conditions.msi", of_product("2.0.0", "{22222222-2222-4333-8444-555555555555}"))
    said = answers(
        prefix, package, [*[f"S{name}={value}" for name, value in PROPERTIES.items()], *[f"C{c}" for c in CONDITIONS]]
    )
    known = foreseen(prefix, package, **PROPERTIES).properties
    wrong = []
    for condition, result in zip(CONDITIONS, said, strict=True):
        try:
            holds = evaluate(condition, lambda symbol: None if symbol[:1] == "%" else known.get(symbol, "")).holds
            own = {True: "1", False: "0", None: "unknown"}[holds]
        except ValueError:
            own = "3"  # MSICONDITION_ERROR
        if own not in {result, "unknown"}:
            wrong.append((condition, own, result))
    assert wrong == []
    assert len(CONDITIONS) > 80


def test_each_search_finds_what_the_service_finds(prefix: Path) -> None:
    tables = of_product("2.0.0", "{22222222-2222-4333-8444-555555555555}")
    tables["AppSearch"] = [[name, row[0]] for name, (_, row) in SEARCHES.items()]
    for table in ("RegLocator", "CompLocator", "DrLocator", "IniLocator"):
        tables[table] = [row for kind, row in SEARCHES.values() if kind == table]
    tables["Signature"] = SIGNATURES
    package = a_package(prefix / "searches.msi", tables)
    _, *said = answers(prefix, package, ["AAppSearch", *[f"P{name}" for name in SEARCHES]])
    own = foreseen(prefix, package).properties
    found = dict(zip(SEARCHES, said, strict=True))
    assert {name: own.get(name, "").lower() for name in SEARCHES} == {name: v.lower() for name, v in found.items()}
    assert sum(bool(value) for value in found.values()) > 15


def test_the_features_that_are_chosen_and_the_related_products_are_those_of_the_service(prefix: Path) -> None:
    tables = of_product("2.0.0", "{33333333-2222-4333-8444-555555555555}")
    tables["AppSearch"] = [[name, SEARCHES[name][1][0]] for name in ("RAWTEXT", "RAWNUMBER", "FOLDERGONE")]
    tables["RegLocator"] = [SEARCHES[name][1] for name in ("RAWTEXT", "RAWNUMBER", "FOLDERGONE")]
    tables["Feature"] = [[f, above, f, "", "1", level, "TARGETDIR", "0"] for f, (above, level, _) in FEATURES.items()]
    tables["FeatureComponents"] = [[feature, "Whole"] for feature in FEATURES]
    tables["Condition"] = [[f, level, c] for f, (_, _, all_) in FEATURES.items() for level, c in all_]
    tables["Upgrade"] = [[UPGRADE, low, high, "", flags, "", name] for name, (low, high, flags) in UPGRADES.items()]
    package = a_package(prefix / "choices.msi", tables)
    actions = ["AFindRelatedProducts", "AAppSearch", "ACostInitialize", "AFileCost", "ACostFinalize"]
    asked = [*[f"F{name}" for name in FEATURES], *[f"P{name}" for name in UPGRADES]]
    said = answers(prefix, package, [*actions, *asked])[len(actions) :]
    own = foreseen(prefix, package)
    chosen = {part.name: part.is_chosen for part in own.parts}
    local = {name: state == "3" for name, state in zip(FEATURES, said, strict=False)}
    assert chosen == local
    found = dict(zip(UPGRADES, said[len(FEATURES) :], strict=True))
    assert {name: own.properties.get(name, "").upper() for name in UPGRADES} == found
    assert set(found.values()) == {OLD, ""}


def test_a_leftover_misleads_the_service_as_foreseen_and_a_property_overrules_it(prefix: Path) -> None:
    """The shipped package is that of its builder, too."""
    package = a_package(prefix / "tidebook.msi", harbour_tables())
    shipped = Path(__file__).parent.parent / "data" / "tidebook.msi"
    one, other = (read_database(CompoundFile(MemoryBytes(p.read_bytes(), "package")), "It") for p in (package, shipped))
    assert one.tables == other.tables
    run(prefix, "reg", "add", "HKLM\\Software\\WOW6432Node\\Saltgrass\\4", "/v", "Folder", "/d", "C:\\Saltgrass", "/f")
    settle(prefix)
    actions = ["AAppSearch", "ALaunchConditions", "AChooseCharts", "ACostInitialize", "AFileCost", "ACostFinalize"]
    for given in ({}, {"BUNDLED": "1"}):
        questions = [*[f"S{name}={value}" for name, value in given.items()], *actions]
        said = answers(prefix, package, [*questions, "FTidebook", "FRuntime", "FCharts"])
        own = foreseen(prefix, package, **given)
        assert said[: len(actions)] == ["0"] * len(actions)
        assert [part.is_chosen for part in own.parts] == [state == "3" for state in said[len(actions) :]]
        assert own.leftovers == ("C:\\Saltgrass",)
        assert own.parts[1].is_chosen is bool(given)


PROGRAMS = {"Always": "{99999999-5555-4333-8444-555555555555}", "Later": "{99999999-6666-4333-8444-555555555555}"}


def of_two_features(code: str, *actions: list[str]) -> dict[str, list[list[str]]]:
    """A product that makes a folder for each of its two features, of which one is chosen by itself."""
    tables = of_product("2.0.0", code)
    tables["Property"] = [row for row in tables["Property"] if row[0] != "UpgradeCode"]
    tables["Directory"] = [["TARGETDIR", "", "SourceDir"], ["Always", "TARGETDIR", "a"], ["Later", "TARGETDIR", "l"]]
    tables["Component"] = [[name, guid, name, "0", "", ""] for name, guid in PROGRAMS.items()]
    tables["Feature"] = [[n, "", n, "", "1", level, n, "0"] for n, level in (("Always", "1"), ("Later", "200"))]
    tables["FeatureComponents"] = [[name, name] for name in PROGRAMS]
    tables["CreateFolder"] = [[name, name] for name in PROGRAMS]
    tables["CustomAction"] = list(actions)
    tables["InstallExecuteSequence"].append(["CreateFolders", "", "3700"])
    return tables


def test_after_it_ran_it_is_reported_whether_it_chose_what_was_meant(prefix: Path, fundamen: Fundamen) -> None:
    code = "{55555555-2222-4333-8444-555555555555}"
    package, before = a_package(prefix / "two.msi", of_two_features(code)), prefix / "before.json"
    words = ("installer", "--machine", prefix, package)
    before.write_text(fundamen(*words, "--json").out)
    not_yet = fundamen(*words, "--meant", before, "--json").records[0]
    assert [(deed["what"]["text"], deed["is_done"]) for deed in not_yet["deeds"]] == [("the product", False)]
    install(prefix, prefix / "drive_c/two/a", f"Z:{package}", "TARGETDIR=C:\\two")
    as_meant = fundamen(*words, "--meant", before)
    assert (as_meant.status, "did what it was meant to do: 3 things" in as_meant.out) == (0, True), as_meant.out
    (prefix / "drive_c/two/a").rmdir()
    lost = fundamen(*words, "--meant", before)
    assert (lost.status, says(lost.out, "installers.is-registered-and-not-there")) == (1, True), lost.out
    run(prefix, "msiexec", "/x", code, "/qn")
    before.write_text(fundamen(*words, "--json", "--set", "ADDLOCAL=Always").out)
    install(prefix, prefix / "drive_c/two/l", f"Z:{package}", "TARGETDIR=C:\\two", "ADDLOCAL=ALL")
    other = fundamen(*words, "--meant", before, "--json").records[0]
    assert [(deed["what"]["text"], deed["meant"], deed["is_done"]) for deed in other["deeds"]] == [
        ("the product", True, True), ("the feature Always", True, True), ("the feature Later", False, True),
    ]  # fmt: skip
    assert fundamen(*words, "--meant", prefix / "asks.c").status == 3


def test_what_a_message_of_the_package_stops_is_foreseen_and_a_folder_that_it_sets_is_taken(prefix: Path) -> None:
    stops, sets = ["Stops", "19", "", "Not here."], ["Sets", "35", "Always", "C:\\elsewhere\\"]
    for number, (condition, is_stopped) in enumerate((("VersionNT", True), ("VersionNT < 100", False))):
        code = f"{{6666666{number}-2222-4333-8444-555555555555}}"
        tables = of_two_features(code, stops, sets)
        tables["InstallExecuteSequence"] += [["Stops", condition, "310"], ["Sets", "", "1010"]]
        package = a_package(prefix / f"stops{number}.msi", tables)
        own = foreseen(prefix, package)
        assert [each.says for each in own.hindrances] == (["Not here."] if is_stopped else [])
        run(prefix, "msiexec", "/i", f"Z:{package}", "/qn", f"TARGETDIR=C:\\stops{number}")
        assert (prefix / f"drive_c/stops{number}/l").exists() is False
        assert (prefix / "drive_c/elsewhere").exists() is not is_stopped
        assert own.properties["Always"] == "C:\\elsewhere\\"
