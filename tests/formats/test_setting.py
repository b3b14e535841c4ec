"""One value of a settings file is changed; everything else stays the same to the byte, and other readers agree."""

import configparser
import json
import subprocess
import tomllib
from pathlib import Path
from xml.etree import ElementTree as ET

import pytest
import yaml
from hypothesis import assume, given
from hypothesis import strategies as st

from fundamen.formats.settings.editing import find_value, format_of, with_value, without_value
from fundamen.formats.settings.setting import FoundSetting, Key, Plain, SettingFormat
from fundamen.model.errors import DamagedFileError, FundamenError, UsageError

BYTES = {
    SettingFormat.INI: b"; tides\r\n[Berth]\r\nname=North ; mole\r\n\r\n[Tide]\r\nStation = Marram\r\n",
    SettingFormat.TOML: b'# tides\n[tide]\nstation = "Marram"  # sound\nheights = [1,  2]\n',
    SettingFormat.JSON: b'{\n  "tide": {"station": "Marram",\t"heights": [1, 2.50]},\n  "a": 1E2\n}\n',
    SettingFormat.YAML: b"# tides\ntide:\n  station:   Marram  # sound\n  heights: [1,  2]\nend: ~\n",
    SettingFormat.XML: b'<?xml version="1.0"?>\n<tide a = "1">\n  <station>Marram</station><!-- x -->\n</tide>\n',
    SettingFormat.PROPERTIES: b"# tides\n  tide\\ station : Mar\\\n    ram\nother=1\n",
    SettingFormat.SHELL: b"# tides\nexport STATION='Marram'  # sound\nLEVEL=2\n",
    SettingFormat.SYSCTL: b"# tides\nkernel.sem = 250 32000\n-net/ipv4/x=1\n",
}
KEYS: dict[SettingFormat, tuple[Key, Plain]] = {
    SettingFormat.INI: (("Tide", "Station"), "Marram"),
    SettingFormat.PROPERTIES: (("tide station",), "Marram"),
    SettingFormat.SHELL: (("STATION",), "Marram"),
    SettingFormat.SYSCTL: (("kernel/sem",), "250 32000"),
}
SAMPLES = {form: (data, *KEYS.get(form, (("tide", "station"), "Marram"))) for form, data in BYTES.items()}
WORDS = st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cs", "Zl", "Zp"]), max_size=20)


@pytest.mark.parametrize("form", SAMPLES)
def test_a_value_is_read_changed_and_nothing_else_is(form: SettingFormat) -> None:
    data, key, value = SAMPLES[form]
    assert find_value(data, form, key, "it") == FoundSetting(value)
    changed = with_value(data, form, key, "Reed", "it")
    assert find_value(changed, form, key, "it") == FoundSetting("Reed")
    begin = next(n for n, (a, b) in enumerate(zip(data, changed, strict=False)) if a != b)
    end = next(n for n, (a, b) in enumerate(zip(data[::-1], changed[::-1], strict=False)) if a != b)
    assert (data[:begin], data[len(data) - end :]) == (changed[:begin], changed[len(changed) - end :])
    assert len(changed) - begin - end <= len("'Reed'"), "more than the value was written"
    if form is not SettingFormat.PROPERTIES:  # where it stood in two lines
        assert with_value(changed, form, key, value, "it").replace(b"'", b"") == data.replace(b"'", b"")


@pytest.mark.parametrize("form", SAMPLES)
def test_a_value_that_is_not_there_is_put_in_beside_the_others_and_taken_out_again(form: SettingFormat) -> None:
    data, key, _ = SAMPLES[form]
    new = (*key[:-1], "LEVEL_9")
    assert find_value(data, form, new, "it") is None
    put_in = with_value(data, form, new, "7", "it")
    assert find_value(put_in, form, new, "it") == FoundSetting("7")
    assert find_value(put_in, form, key, "it") == find_value(data, form, key, "it")
    if form is not SettingFormat.XML:
        assert without_value(put_in, form, new, "it") == data
    assert without_value(data, form, new, "it") == data


@pytest.mark.parametrize("form", SAMPLES)
@given(value=WORDS)
def test_any_text_is_read_back_as_it_was_written_or_refused(form: SettingFormat, value: str) -> None:
    data, key, _ = SAMPLES[form]
    try:
        changed = with_value(data, form, key, value, "it")
    except UsageError:
        assume(False)  # noqa: FBT003 - its own interface
    assert find_value(changed, form, key, "it") == FoundSetting(value)
    text = changed.decode()
    match form:
        case SettingFormat.TOML:
            assert tomllib.loads(text)["tide"] == {"station": value, "heights": [1, 2]}
        case SettingFormat.JSON:
            assert json.loads(text) == {"tide": {"station": value, "heights": [1, 2.5]}, "a": 100.0}
        case SettingFormat.YAML:
            assert yaml.safe_load(text) == {"tide": {"station": value, "heights": [1, 2]}, "end": None}
        case SettingFormat.XML:
            assert ET.fromstring(text).findtext("station") == value  # noqa: S314 - what was written just now


@pytest.mark.parametrize("value", ["a b", "$HOME `id`", "it's", "", "#x", "\\"])
def test_a_shell_reads_what_was_written(tmp_path: Path, value: str) -> None:
    file = tmp_path / "settings.sh"
    file.write_bytes(with_value(SAMPLES[SettingFormat.SHELL][0], SettingFormat.SHELL, ("STATION",), value, "it"))
    script = f'. {file}; printf %s "$STATION"'
    assert subprocess.run(["sh", "-c", script], capture_output=True, check=True).stdout.decode() == value


def test_the_standard_reader_of_ini_files_agrees() -> None:
    changed = with_value(SAMPLES[SettingFormat.INI][0], SettingFormat.INI, ("Berth", "level"), "4 m", "it")
    reader = configparser.ConfigParser(inline_comment_prefixes=";")
    reader.read_string(changed.decode())
    assert {name: dict(reader[name]) for name in reader.sections()} == {
        "Berth": {"name": "North", "level": "4 m"},
        "Tide": {"station": "Marram"},
    }


@pytest.mark.parametrize(
    ("form", "data", "key", "value"),
    [
        (SettingFormat.JSON, b'{"a": [1, {"b": true}]}', ("a", "1", "b"), False),
        (SettingFormat.TOML, b"[[berth]]\nn = 1\n[[berth]]\nn = 2 # two\n", ("berth", "1", "n"), 3),
        (SettingFormat.YAML, b"a:\n- b: 1\n- b: yes\n", ("a", "1", "b"), 2.5),
        (SettingFormat.XML, b"<a><b x='1'/><b x='2' y=\"3\"/></a>", ("a", "b[1]", "@x"), "7 < 8"),
        (SettingFormat.INI, b"top = 1\n[a]\n", ("top",), "2"),
        (SettingFormat.SYSCTL, b"a.b = 1\na/b = 2\n", ("a.b",), "3"),
    ],
)
def test_the_place_that_counts_is_found(form: SettingFormat, data: bytes, key: Key, value: Plain) -> None:
    before = find_value(data, form, key, "it")
    changed = with_value(data, form, key, value, "it")
    assert (before is not None, find_value(changed, form, key, "it")) == (True, FoundSetting(value))
    assert len(changed.splitlines()) == len(data.splitlines())


@pytest.mark.parametrize(
    ("form", "data", "key", "error"),
    [
        (SettingFormat.INI, b"[a]\nx=1\nx=2\n", ("a", "x"), UsageError),
        (SettingFormat.JSON, b'{"x": 1, "x": 2}', ("x",), UsageError),
        (SettingFormat.JSON, b'{"x": {}}', ("x",), UsageError),
        (SettingFormat.JSON, b'{"x": 1', ("x",), DamagedFileError),
        (SettingFormat.JSON, b"[" * 100_000, ("x",), DamagedFileError),
        (SettingFormat.YAML, b"a: &x 1\nb: *x\n", ("b",), UsageError),
        (SettingFormat.YAML, b"a: [", ("a",), DamagedFileError),
        (SettingFormat.YAML, b"[" * 100_000, ("a",), DamagedFileError),
        (SettingFormat.YAML, b"--- 1\n--- 2\n", ("a",), DamagedFileError),
        (SettingFormat.TOML, b"a = ", ("a",), DamagedFileError),
        (SettingFormat.XML, b"<a><b/><b/></a>", ("a", "b"), UsageError),
        (SettingFormat.XML, b'<!DOCTYPE a [<!ENTITY b "c">]><a>&b;</a>', ("a",), DamagedFileError),
        (SettingFormat.XML, b"<a>" * 70 + b"</a>" * 70, ("a",), DamagedFileError),
        (SettingFormat.SHELL, b"A=1\n", ("A", "B"), UsageError),
        (SettingFormat.SYSCTL, b"a\0=1\n", ("a",), DamagedFileError),
    ],
)  # fmt: skip
def test_what_cannot_be_changed_safely_is_refused(
    form: SettingFormat, data: bytes, key: Key, error: type[FundamenError]
) -> None:
    with pytest.raises(error):
        with_value(data, form, key, "2", "it")


@given(form=st.sampled_from(list(SAMPLES)), data=st.data())
def test_a_damaged_file_is_refused_or_changed_in_one_place(form: SettingFormat, data: st.DataObject) -> None:
    original, key, _ = SAMPLES[form]
    at = data.draw(st.integers(0, len(original)))
    changed = original[:at] + data.draw(st.binary(max_size=4)) + original[at + data.draw(st.integers(0, 4)) :]
    try:
        result = with_value(changed, form, key, "Reed", "it")
    except FundamenError:
        return
    assert find_value(result, form, key, "it") == FoundSetting("Reed")


def test_a_name_tells_the_format_or_nothing() -> None:
    names = ("/etc/sysctl.d/9.conf", "a.json", "Web.Config", "x.conf")
    assert [format_of(name) for name in names] == [SettingFormat.SYSCTL, SettingFormat.JSON, SettingFormat.XML, None]
