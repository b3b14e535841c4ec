"""A source is believed only with proof; each attack by its name."""

import json
import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.elf import an_elf
from builders.machine import ALinuxMachine
from builders.source import NOW, ASource
from conftest import Fundamen
from fundamen.model.errors import FundamenError, UnreadableError, UntrustedError, UsageError
from fundamen.model.package import Base, PackageFile
from fundamen.model.paths import HostPath
from fundamen.sources.layout import place_parts

LIBRARY = an_elf(soname="libx.so.1")


@pytest.fixture
def source(tmp_path: Path, home: Path) -> ASource:
    return ASource(tmp_path, home).published({"libx.so.1.0": LIBRARY, "readme.txt": b"Saltgrass"})


def test_a_published_package_is_described_by_its_own_files(source: ASource) -> None:
    [package] = source.trusted().packages
    assert package.title == "Saltgrass 1.0 for Linux x86_64"
    assert [(f.name, f.base, f.place, f.size) for f in package.files] == [
        ("libx.so.1", Base.PROGRAM, "../lib/libx.so.1.0", len(LIBRARY)),
        ("readme.txt", Base.PROGRAM, "../lib/readme.txt", 9),
    ]


def test_a_trusted_source_serves_its_files_and_later_versions(source: ASource) -> None:
    catalogue = source.trusted()
    fetched = source.store.fetch(catalogue.source, catalogue.packages[0].files[0])
    assert Path(fetched).read_bytes() == LIBRARY
    source.published({"libx.so.1.0": LIBRARY + b"2"}, version="1.1")
    assert [p.version for p in source.store.refresh(catalogue.source).packages] == ["1.0", "1.1"]


@pytest.mark.parametrize(
    "typed", [str.upper, lambda f: " ".join(f[i : i + 4] for i in range(0, 64, 4)), lambda f: f"{f[:32]}:{f[32:]}"]
)
def test_a_fingerprint_may_be_typed_as_it_was_read_out(source: ASource, typed: Callable[[str], str]) -> None:
    source.fingerprint = typed(source.fingerprint)
    assert source.trusted().source.name == "it"


def newest(source: ASource, role: str) -> Path:
    found = list((source.folder / "metadata").glob(f"*.{role}.json"))
    return max(found, key=lambda path: int(path.name.split(".")[0]))


def altered(path: Path, old: str, new: str) -> None:
    text = path.read_text()
    assert old in text
    path.write_text(text.replace(old, new))


def signed_by_someone_else(source: ASource) -> None:
    statement = newest(source, "targets")
    data = json.loads(statement.read_text())
    data["signatures"][0]["sig"] = "00" * 64
    statement.write_text(json.dumps(data))


def description(source: ASource) -> Path:
    [path] = (source.folder / "packages").glob("*.json.gz")
    return path


def swapped_for_an_endless_file(source: ASource) -> None:
    with (source.folder / "metadata" / "timestamp.json").open("ab") as file:
        file.write(b" " * 1_000_000)


def mixed_with_an_older_statement(source: ASource) -> None:
    older = newest(source, "targets").read_bytes()
    source.published({"libx.so.1.0": LIBRARY}, version="1.1")
    newest(source, "targets").write_bytes(older)


ATTACKS: dict[str, tuple[Callable[[ASource], object], str]] = {
    "wrong key": (signed_by_someone_else, "not signed by the keys"),
    "altered version": (lambda s: altered(newest(s, "snapshot"), '"version": 1', '"version": 7'), "not signed|older"),
    "altered description": (
        lambda s: description(s).write_bytes(description(s).read_bytes()[:-9] + bytes(9)),
        "altered",
    ),
    "mix and match": (mixed_with_an_older_statement, "rollback"),
    "endless data": (swapped_for_an_endless_file, "longer than the signed size"),
    "no statement": (lambda s: s.folder.joinpath("metadata/timestamp.json").write_text("{}"), "cannot be read"),
}


@pytest.mark.parametrize("attack", ATTACKS)
def test_an_attack_is_refused_with_its_name_and_nothing_is_trusted(source: ASource, attack: str) -> None:
    change, said = ATTACKS[attack]
    change(source)
    with pytest.raises(UntrustedError, match=said):
        source.trusted()
    assert source.store.sources() == ()


def test_a_wrong_fingerprint_is_refused_and_the_right_one_not_shown(source: ASource) -> None:
    right, source.fingerprint = source.fingerprint, "0" * 64
    with pytest.raises(UntrustedError, match="no root statement in it has the fingerprint") as raised:
        source.trusted()
    assert right[:8] not in str(raised.value).replace(" ", "")
    source.fingerprint = "12 34"
    with pytest.raises(UsageError, match="64 hexadecimal digits"):
        source.trusted()


def test_a_source_of_which_what_is_kept_is_damaged_can_be_forgotten(source: ASource, home: Path) -> None:
    source.trusted()
    (home / "sources" / "it" / "source.json").write_text("{")
    with pytest.raises(UnreadableError, match="cannot be read"):
        source.store.catalogues()
    source.store.forget("it")
    with pytest.raises(UsageError, match="no source of this name"):
        source.store.forget("../sources")
    assert source.trusted().source.name == "it"


def test_an_expired_catalogue_is_refused(tmp_path: Path, home: Path) -> None:
    with pytest.raises(UntrustedError, match="expired"):
        ASource(tmp_path, home).published({"libx.so.1": LIBRARY}, days=-1).trusted()


def test_an_older_catalogue_than_the_one_seen_is_refused_as_rollback(source: ASource, tmp_path: Path) -> None:
    shutil.copytree(source.folder, tmp_path / "older")
    catalogue = source.published({"libx.so.1.0": LIBRARY}, version="1.1").trusted()
    shutil.rmtree(source.folder)
    shutil.move(tmp_path / "older", source.folder)
    with pytest.raises(UntrustedError, match="rollback"):
        source.store.refresh(catalogue.source)
    assert len(source.store.catalogues()[0].packages) == 2


@pytest.mark.parametrize("change", [lambda b: b[:-1] + b"?", lambda b: b + b"?", lambda b: b[:-1], lambda _: b""])
def test_a_file_whose_digest_differs_is_refused_and_not_kept(source: ASource, change: Callable[[bytes], bytes]) -> None:
    catalogue = source.trusted()
    file = catalogue.packages[0].files[0]
    stored = source.folder / "content" / file.sha256[:2] / file.sha256
    stored.write_bytes(change(stored.read_bytes()))
    with pytest.raises(UntrustedError, match="the signed one is"):
        source.store.fetch(catalogue.source, file)
    assert not list(source.store._contents and Path(source.store._contents).glob("*"))


def test_a_source_that_is_not_there_or_not_complete_is_said(source: ASource, tmp_path: Path) -> None:
    with pytest.raises(UnreadableError, match="no signed metadata"):
        source.store.trust(HostPath(str(tmp_path / "media")), "0" * 64, "x", NOW)
    newest(source, "snapshot").unlink()
    with pytest.raises(UnreadableError, match="not complete"):
        source.trusted()


@pytest.mark.parametrize(
    ("files", "said"),
    [
        ({}, "found: no file"),
        ({"a.so": an_elf("x86"), "b.so": an_elf()}, "linux x86, linux x86_64"),
        ({"a.so": LIBRARY[:-3]}, "damaged"),
    ],
)
def test_media_that_are_no_one_package_are_not_published(
    tmp_path: Path, home: Path, files: dict[str, bytes], said: str
) -> None:
    with pytest.raises(FundamenError, match=said):
        ASource(tmp_path, home).published(files)


def placed(base: Base, place: str) -> tuple[str, ...]:
    return place_parts(PackageFile("x", base, place, 0, "0" * 64))


@pytest.mark.parametrize(
    "place", ["", "/etc/passwd", "a/../../b", "../x", "C:x", "a\\..\\b", "a//b", "./a", "a/.", "a\0", "a\nb"]
)
def test_a_place_that_could_lead_elsewhere_is_refused(place: str) -> None:
    with pytest.raises(UntrustedError):
        placed(Base.SYSTEM, place)


def test_only_the_programs_folder_may_be_climbed_from_and_not_far() -> None:
    assert placed(Base.PROGRAM, "../lib/x.so") == ("..", "lib", "x.so")
    with pytest.raises(UntrustedError):
        placed(Base.PROGRAM, "../../../../../etc/x")


@given(st.text(alphabet="ab./\\:\0 ", max_size=12))
def test_every_place_that_is_believed_is_plain(place: str) -> None:
    try:
        parts = placed(Base.ROOT, place)
    except UntrustedError:
        return
    assert all(part and part not in {".", ".."} and not set(part) & set("/\\:\0") for part in parts)


def test_a_file_whose_own_name_is_damaged_is_known_by_the_name_it_lies_under(
    tmp_path: Path, home: Path, linux: ALinuxMachine, fundamen: Fundamen
) -> None:
    companion = an_elf(soname="liby.so.1")
    source = ASource(tmp_path, home).published({"libx.so.1": LIBRARY, "liby.so.1": companion})
    assert fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint).status == 0
    linux.program("/opt/t/bin/tidebook", needs=["libx.so.1", "liby.so.1"], runpath="/opt/t/lib")
    linux.file("/opt/t/lib/liby.so.1", companion)
    for damaged in (b"mibx.so.1", b"\xe2ibx.so.1"):
        linux.file("/opt/t/lib/libx.so.1", LIBRARY.replace(b"libx.so.1", damaged))
        [record] = fundamen("trace", "--json", "-m", str(linux.root), "/opt/t/bin/tidebook").records
        assert [c["verdict"] for c in record["components"] if c["name"] == "libx.so.1"] == ["corrupt"]


def test_our_own_copies_are_checked_and_brought_in_again(
    tmp_path: Path, home: Path, linux: ALinuxMachine, fundamen: Fundamen
) -> None:
    linux.program("/opt/t/bin/tidebook", needs=["libx.so.1"], runpath="/opt/t/lib")
    source = ASource(tmp_path, home).published({"libx.so.1": LIBRARY})
    assert fundamen("sources", "trust", str(source.folder), "--fingerprint", source.fingerprint).status == 0
    assert fundamen("restore", "--rehearse", "-m", str(linux.root), "/opt/t/bin/tidebook").status == 1
    [copy] = (home / "content").iterdir()
    assert fundamen("sources", "verify").out == "All 2 of our own copies are intact.\n"
    copy.write_bytes(b"altered")
    index = next((home / "sources").glob("*/catalogue.sqlite"))
    index.write_bytes(b"no database")
    ran = fundamen("sources", "verify")
    assert (ran.status, "2 of 2 copies were damaged: all repaired." in ran.out) == (0, True), ran.out + ran.err
    assert copy.read_bytes() == LIBRARY
    copy.write_bytes(b"altered")
    shutil.rmtree(source.folder)
    ran = fundamen("sources", "verify", "--json")
    assert (ran.status, [part["outcome"] for part in ran.records[0]["changed"]]) == (1, ["deleted"])
    assert list((home / "content").glob("*")) == []
