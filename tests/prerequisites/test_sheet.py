"""A sheet is read whole, its requirements in the order of what they depend on, or refused at a line and column."""

import contextlib
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamen.formats.versions import compare, is_in
from fundamen.model.errors import FundamenError, UnreadableError, UsageError
from fundamen.model.paths import HostPath
from fundamen.prerequisites.sheet import Sheet, read_sheet

TOP = 'schema = "fundamen.sheet/1"\nname = "Tidebook"\n'


def written(folder: Path, text: str, name: str = "sheet.toml", top: str = TOP) -> HostPath:
    (folder / name).write_text(top + text)
    return HostPath(str(folder / name))


def a_file(id_: str, more: str = "") -> str:
    return f'[[requirement]]\nid = "{id_}"\nkind = "file"\npath = "/opt/{id_}"\n{more}\n'


def ids(sheet: Sheet) -> list[str]:
    return [each.id for each in sheet.requirements]


def test_what_is_included_counts_once_and_each_stands_after_what_it_depends_on(tmp_path: Path) -> None:
    written(tmp_path, a_file("base"), "base.toml")
    written(tmp_path, a_file("left"), "left.toml", TOP + 'include = ["base.toml"]\n')
    top = TOP + 'include = ["base.toml", "left.toml"]\n'
    sheet = read_sheet(written(tmp_path, a_file("first", 'after = ["last"]') + a_file("last"), top=top))
    assert ids(sheet) == ["base", "left", "last", "first"]


@pytest.mark.parametrize(
    ("text", "line", "column", "why"),
    [
        (
            '[[requirement]]\nid = "a"\nkind = "moon phase"\n',
            5,
            1,
            "there is no kind 'moon phase': it is one of account",
        ),
        ('[[requirement]]\nid = "a"\nkind = "disk-space"\n', 5, 1, "perhaps 'disk space' is meant"),
        ('[[requirement]]\nid = "A b"\nkind = "clock"\nserver = "x"\n', 4, 1, "id: it has small letters, digits"),
        ('[[requirement]]\nid = "a"\nkind = "port"\nnummer = 1\n', 6, 1, "the kind 'port' takes number and perhaps"),
        (a_file("a") + '[[requirement]]\nid = "b"\nkind = "port"\n  number = 70000\n', 11, 3, "number: "),
        ('[[requirement]]\nkind = "port"\nnumber = 1\n', 3, 1, "missing required field `id`"),
        (a_file("a", 'colour = "red"'), 7, 1, "unknown field `colour`"),
        (a_file("a") + a_file("a"), 9, 1, "the id 'a' is taken already, in line 4"),
        (a_file("a", 'after = ["b"]') + a_file("b", 'after = ["a"]'), 12, 1, "a -> b -> a"),
        (a_file("a", 'after = ["nobody"]'), 7, 1, "no requirement of this id"),
        (
            '[[requirement]]\nid = "a"\nkind = "package"\nname = "z"\nversion = ">= 5, < 3"\n',
            7,
            1,
            "exclude each other",
        ),
        (
            '[[requirement]]\nid = "a"\nkind = "kernel setting"\nname = "a.b"\nat_least = 5\nat_most = 4\n',
            3,
            1,
            "no value",
        ),
        ("surprise = 1\n", 3, 1, "unknown field `surprise`"),
    ],
)
def test_what_cannot_be_is_refused_where_it_stands(tmp_path: Path, text: str, line: int, column: int, why: str) -> None:
    with pytest.raises(UsageError) as refused:
        read_sheet(written(tmp_path, text))
    answer = refused.value.what
    assert (answer.code, answer.values["line"], answer.values["column"]) == (
        "prerequisites.the-sheet-is-refused-at-line", line, column,
    )  # fmt: skip
    assert why in refused.value.why


def test_a_sheet_that_includes_itself_is_none_and_so_are_a_pipe_and_no_toml(tmp_path: Path) -> None:
    with pytest.raises(UsageError, match="it includes itself"):
        read_sheet(written(tmp_path, "", top=TOP + 'include = ["sheet.toml"]\n'))
    with pytest.raises(UnreadableError, match="no TOML"):
        read_sheet(written(tmp_path, "[[requirement\n"))
    with pytest.raises(UnreadableError, match="no ordinary file"):
        read_sheet(HostPath("/dev/null"))


@given(st.text(alphabet='[]requimnt =\n"id.kfla{}\\', max_size=200))
def test_any_text_is_a_sheet_or_refused(tmp_path_factory: pytest.TempPathFactory, text: str) -> None:
    with contextlib.suppress(FundamenError):
        assert read_sheet(written(tmp_path_factory.getbasetemp(), text, "any.toml")).name


@pytest.mark.parametrize(
    ("version", "wanted", "is_so"),
    [
        ("1.10", "> 1.9", True),
        ("2.0", "= 2", True),
        ("2.0", "== 2", True),
        ("2.1", "2", False),
        ("2.0~rc1", "< 2.0", True),
        ("1:1.2.13.dfsg-1", ">= 1.2, < 2", True),
        ("1:1.2", "< 1:1.1", False),
        ("8.2.29-1~deb12u1", ">= 8.1, < 8.3", True),
        ("3.0", "!= 3", False),
    ],
)
def test_a_version_is_in_a_range(version: str, wanted: str, is_so: bool) -> None:  # noqa: FBT001 - a column
    assert is_in(version, wanted) is is_so


@given(*[st.text("0123456789.~+ab-", min_size=1, max_size=12)] * 3)
def test_versions_have_an_order(one: str, two: str, three: str) -> None:
    assert (compare(one, two) > 0) == (compare(two, one) < 0)
    if compare(one, two) <= 0 <= -compare(two, three):
        assert compare(one, three) <= 0
