"""The packager's side: keys, thresholds, an offline root, rotation, renewal and withdrawal."""

import shutil
from datetime import timedelta
from pathlib import Path

import pytest

from builders.elf import an_elf
from builders.machine import ALinuxMachine
from builders.source import NOW, ASource
from conftest import Fundamen
from fundamen.model.errors import UnreadableError, UntrustedError, UsageError
from fundamen.model.paths import HostPath
from fundamen.sources.repository import Repository
from wording import says

LIBRARY = an_elf(soname="libx.so.1")
LATER = NOW + timedelta(days=30)


@pytest.fixture
def source(tmp_path: Path, home: Path) -> ASource:
    return ASource(tmp_path, home).published({"libx.so.1": LIBRARY})


def opened(source: ASource, *keys: Path, **facts: dict[str, int]) -> Repository:
    folders = tuple(HostPath(str(folder)) for folder in (keys or (source.keys,)))
    return Repository(HostPath(str(source.folder)), folders, LATER, **facts)


@pytest.mark.parametrize("role", ["root", "targets", "snapshot", "timestamp"])
def test_technicians_follow_when_a_key_is_replaced(source: ASource, role: str) -> None:
    catalogue = source.trusted()
    source.with_new_key(role).published({"libx.so.1": LIBRARY + b"2"}, version="1.1")
    assert len(source.store.refresh(catalogue.source).packages) == 2
    source.with_new_key(role).with_new_key(role)
    assert len(source.store.refresh(catalogue.source).packages) == 2
    source.store.forget("it")
    assert len(source.trusted().packages) == 2  # also for one that trusts it only now, by the first root


def test_a_replaced_key_is_kept_and_signs_nothing_more(source: ASource) -> None:
    old = (source.keys / "targets.pem").read_bytes()
    source.with_new_key("targets")
    assert (source.keys / "targets.pem.retired-1").read_bytes() == old
    (source.keys / "targets.pem").write_bytes(old)
    with pytest.raises(UnreadableError, match="targets role asks for 1 of its keys, and 0 are"):
        opened(source).renew()


def test_while_a_key_is_replaced_every_reader_sees_a_catalogue_that_holds(source: ASource, tmp_path: Path) -> None:
    catalogue = source.trusted()
    roots = source.folder / "metadata"
    source.with_new_key("timestamp")
    (roots / "2.root.json").rename(tmp_path / "2.root.json")  # as if it was truncated before the new root was written
    assert len(source.store.refresh(catalogue.source).packages) == 1


def test_the_root_key_can_stay_offline(source: ASource, tmp_path: Path) -> None:
    safe = tmp_path / "safe"
    safe.mkdir()
    shutil.move(source.keys / "root.pem", safe)
    source.published({"libx.so.1": LIBRARY + b"2"}, version="1.1")
    with pytest.raises(UnreadableError, match="root role asks for 1 of its keys"):
        opened(source).rotate("targets")
    opened(source, source.keys, safe).rotate("targets")
    assert len(source.trusted().packages) == 2


def test_where_several_keys_must_sign_fewer_do_not_suffice(source: ASource, tmp_path: Path) -> None:
    shutil.rmtree(source.folder)
    shutil.rmtree(source.keys)
    opened(source, thresholds={"targets": 2, "root": 3})
    catalogue = source.published({"libx.so.1": LIBRARY}).trusted()
    second = tmp_path / "second"
    second.mkdir()
    shutil.move(source.keys / "targets-2.pem", second)
    with pytest.raises(UnreadableError, match="asks for 2 of its keys, and 1 are"):
        opened(source).renew()
    opened(source, source.keys, second).renew()
    assert len(source.store.refresh(catalogue.source).packages) == 1
    with pytest.raises(UsageError, match="are not changed"):
        opened(source, thresholds={"targets": 1})


def test_a_catalogue_is_renewed_before_it_ends(tmp_path: Path, home: Path) -> None:
    source = ASource(tmp_path, home).published({"libx.so.1": LIBRARY}, days=-1)
    with pytest.raises(UntrustedError, match="expired"):
        source.trusted()
    opened(source).renew()
    assert source.trusted().expires_at == LATER.replace(microsecond=0)


def test_what_is_withdrawn_is_offered_no_longer_and_technicians_see_why(
    source: ASource, linux: ALinuxMachine, fundamen: Fundamen
) -> None:
    linux.program("/opt/t/bin/tidebook", needs=["libx.so.1"], runpath="/opt/t/lib")
    linux.file("/opt/t/lib/libx.so.1", LIBRARY)
    source.trusted()
    trace = ("trace", "-m", str(linux.root), "/opt/t/bin/tidebook")
    assert fundamen(*trace).status == 0
    words = ("--reason", "wrong tides", "--keys", str(source.keys))
    for more, status, verdict in ((), 0, "verified"), (("--untrusted",), 1, "untrusted"):
        assert fundamen("sources", "withdraw", str(source.folder), "Saltgrass", "1.0", *words, *more).status == 0
        assert fundamen("sources", "refresh").status == 0
        ran = fundamen(*trace)
        assert (ran.status, "wrong tides" in " ".join(ran.out.split())) == (status, True)
        [record] = fundamen(*trace, "--json").records
        assert [each["verdict"] for each in record["components"] if each["name"] == "libx.so.1"] == [verdict]
    unknown = fundamen("sources", "withdraw", str(source.folder), "Saltgrass", "9.9", *words)
    assert (unknown.status, says(unknown.err, "sources.the-source-has-no-package-of")) == (2, True)


def test_the_packagers_commands_say_what_they_did(source: ASource, fundamen: Fundamen) -> None:
    keys = ("--keys", str(source.keys))
    renewed = fundamen("sources", "renew", str(source.folder), *keys, "--days", "5")
    assert (renewed.status, "The catalogue is signed until" in renewed.err) == (0, True)
    rotated = fundamen("sources", "rotate", str(source.folder), "snapshot", *keys)
    assert (rotated.status, "The snapshot role has new keys" in rotated.err) == (0, True)
    nowhere = fundamen("sources", "renew", str(source.keys), *keys)
    assert (nowhere.status, says(nowhere.err, "sources.the-folder-has-no-signed-metadata")) == (3, True)
