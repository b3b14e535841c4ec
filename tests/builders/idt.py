"""Build install packages by Debian's msibuild, from tables as text (the archive format of the Windows Installer)."""

import subprocess
from collections.abc import Mapping, Sequence
from pathlib import Path

# name -> (columns, their types, the keys). Source: Windows Installer reference, of each table.
TABLES = {
    "Property": ("Property Value", "s72 l0", "Property"),
    "AppSearch": ("Property Signature_", "s72 s72", "Property Signature_"),
    "RegLocator": ("Signature_ Root Key Name Type", "s72 i2 s255 S255 I2", "Signature_"),
    "DrLocator": ("Signature_ Parent Path Depth", "s72 S72 S255 I2", "Signature_ Parent Path"),
    "CompLocator": ("Signature_ ComponentId Type", "s72 s38 I2", "Signature_"),
    "CreateFolder": ("Directory_ Component_", "s72 s72", "Directory_ Component_"),
    "IniLocator": ("Signature_ FileName Section Key Field Type", "s72 s255 s96 s128 I2 I2", "Signature_"),
    "Signature": (
        "Signature FileName MinVersion MaxVersion MinSize MaxSize MinDate MaxDate Languages",
        "s72 s255 S20 S20 I4 I4 I4 I4 S255",
        "Signature",
    ),
    "LaunchCondition": ("Condition Description", "s255 l255", "Condition"),
    "Feature": (
        "Feature Feature_Parent Title Description Display Level Directory_ Attributes",
        "s38 S38 L64 L255 I2 i2 S72 i2",
        "Feature",
    ),
    "Condition": ("Feature_ Level Condition", "s38 i2 S255", "Feature_ Level"),
    "Upgrade": (
        "UpgradeCode VersionMin VersionMax Language Attributes Remove ActionProperty",
        "s38 S20 S20 S255 i4 S255 s72",
        "UpgradeCode VersionMin VersionMax Language Attributes",
    ),
    "Directory": ("Directory Directory_Parent DefaultDir", "s72 S72 l255", "Directory"),
    "Component": (
        "Component ComponentId Directory_ Attributes Condition KeyPath",
        "s72 S38 s72 i2 S255 S72",
        "Component",
    ),
    "FeatureComponents": ("Feature_ Component_", "s38 s72", "Feature_ Component_"),
    "CustomAction": ("Action Type Source Target", "s72 i2 S72 S255", "Action"),
    "InstallExecuteSequence": ("Action Condition Sequence", "s72 S255 I2", "Action"),
    "File": (
        "File Component_ FileName FileSize Version Language Attributes Sequence",
        "s72 s72 l255 i4 S72 S20 I2 i2",
        "File",
    ),
    "Media": ("DiskId LastSequence DiskPrompt Cabinet VolumeLabel Source", "i2 i2 L64 S255 S32 S72", "DiskId"),
}


def a_package(path: Path, tables: Mapping[str, Sequence[Sequence[str]]], template: str = "Intel;1033") -> Path:
    """Build a package.

    Args:
        path: of the package; its tables are written beside it.
        tables: the rows of each; further tables that every package has are empty.
        template: for which platform it is.
    """
    words: list[str] = []
    for name, (columns, types, keys) in TABLES.items():
        rows = tables.get(name, ())
        lines = [columns.split(), types.split(), [name, *keys.split()], *rows]
        file = path.with_name(f"{name}.idt")
        file.write_text("".join("\t".join(line) + "\r\n" for line in lines), newline="")
        words += ["-i", str(file)]
    summary = ["-s", "Tidebook", "Ardvane Instruments", template, "{0A1B2C3D-0000-4000-8000-00000000000F}"]
    subprocess.run(["msibuild", str(path), *words, *summary], check=True, capture_output=True)
    return path


def harbour_tables() -> dict[str, list[list[str]]]:
    """A package that takes a runtime for installed where an earlier version has left it registered."""
    property_ = {
        "ProductCode": "{44444444-2222-4333-8444-555555555555}",
        "ProductVersion": "2.0.0",
        "ProductName": "Tidebook",
        "Manufacturer": "Ardvane Instruments",
        "ProductLanguage": "1033",
        "UpgradeCode": "{AAAAAAAA-BBBB-4CCC-8DDD-EEEEEEEEEEEE}",
        "ALLUSERS": "1",
    }
    actions = [
        ("FindRelatedProducts", ""),
        ("AppSearch", ""),
        ("LaunchConditions", ""),
        ("TooOld", "VersionNT < 601"),
        ("ChooseCharts", "RUNTIME4"),
        ("CostInitialize", ""),
        ("FileCost", ""),
        ("CostFinalize", ""),
        ("InstallValidate", ""),
        ("InstallInitialize", ""),
        ("TuneSystem", "NOT Installed AND LogonUser"),
        ("ProcessComponents", ""),
        ("InstallFinalize", ""),
    ]
    return {
        "Property": [[name, value] for name, value in property_.items()],
        "AppSearch": [["RUNTIME4", "runtime"], ["HELPER", "helper"]],
        "RegLocator": [
            ["runtime", "2", "Software\\Saltgrass\\4", "Folder", "2"],
            ["helper", "2", "Software\\Saltgrass\\4", "Helper", "0"],
        ],
        "LaunchCondition": [["RUNTIME4 OR BUNDLED = 1", "Tidebook needs the Saltgrass Runtime 4 of [Manufacturer]."]],
        "Directory": [["TARGETDIR", "", "SourceDir"]],
        "Component": [["Whole", "{99999999-3333-4333-8444-555555555555}", "TARGETDIR", "0", "", ""]],
        "Feature": [
            ["Tidebook", "", "Tide tables", "", "1", "1", "TARGETDIR", "0"],
            ["Runtime", "", "Saltgrass Runtime 4", "", "2", "1", "TARGETDIR", "0"],
            ["Charts", "", "Charts", "", "3", "200", "TARGETDIR", "0"],
        ],
        "Condition": [["Runtime", "0", "RUNTIME4 AND NOT BUNDLED"], ["Charts", "1", 'CHARTS = "yes"']],
        "FeatureComponents": [["Tidebook", "Whole"], ["Runtime", "Whole"], ["Charts", "Whole"]],
        "Upgrade": [["{AAAAAAAA-BBBB-4CCC-8DDD-EEEEEEEEEEEE}", "", "2.0.0", "", "0", "", "OLDER"]],
        "CustomAction": [
            ["TooOld", "19", "", "This Windows is too old."],
            ["ChooseCharts", "51", "CHARTS", "yes"],
            ["TuneSystem", "1", "tuner", "Tune"],
        ],
        "InstallExecuteSequence": [[name, text, str(number * 100)] for number, (name, text) in enumerate(actions, 1)],
        "Media": [["1", "0", "", "", "", ""]],
    }


if __name__ == "__main__":  # python -m builders.idt, in tests/: makes data/tidebook.msi again
    import tempfile

    with tempfile.TemporaryDirectory() as folder:
        made = a_package(Path(folder) / "tidebook.msi", harbour_tables())
        (Path(__file__).parent.parent / "data" / "tidebook.msi").write_bytes(made.read_bytes())
