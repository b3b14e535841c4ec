import shutil
import subprocess
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.unix.ld_cache import CacheEntry, read_ld_cache, write_ld_cache
from fundamen.loaders.ld_configuration import find_cache_entries
from fundamen.machine.opening import open_machine
from fundamen.model.errors import DamagedFileError

CACHE = Path("/etc/ld.so.cache")
LDCONFIG = shutil.which("ldconfig", path="/sbin:/usr/sbin:/bin")


@pytest.mark.skipif(not (CACHE.exists() and LDCONFIG), reason="this host has no ld.so.cache")
def test_the_entries_are_those_that_ldconfig_prints() -> None:
    answer = subprocess.run([str(LDCONFIG), "-p"], capture_output=True, text=True, check=True).stdout
    printed = [line.split(" => ") for line in answer.splitlines() if " => " in line]
    entries = read_ld_cache(MemoryBytes(CACHE.read_bytes()))
    found = [(entry.name, entry.path) for named in entries.values() for entry in named]
    assert sorted(found) == sorted((left.split(" (")[0].strip(), path) for left, path in printed)


@pytest.mark.skipif(not LDCONFIG, reason="this host has no ldconfig")
def test_a_cache_of_our_own_is_that_of_ldconfig_in_its_order_too(tmp_path: Path) -> None:
    subprocess.run([str(LDCONFIG), "-X", "-C", str(tmp_path / "it")], capture_output=True, check=True)
    theirs = read_ld_cache(MemoryBytes((tmp_path / "it").read_bytes()))
    entries = find_cache_entries(open_machine(None))
    if entries is None:
        pytest.skip("this host has libraries for newer processors only")
    ours = read_ld_cache(MemoryBytes(write_ld_cache(entries)))
    assert list(ours.items()) == list(theirs.items())


@given(st.lists(st.text(st.sampled_from("lib.so-0129aZ_é"), min_size=1, max_size=12), max_size=20, unique=True))
def test_whatever_is_written_is_read_again_in_descending_order(names: list[str]) -> None:
    entries = [CacheEntry(name, f"/opt/{name}", 0x303, 0) for name in names]
    read = read_ld_cache(MemoryBytes(write_ld_cache(entries)))
    assert {name: found for name, (found,) in read.items()} == {entry.name: entry for entry in entries}


@pytest.mark.skipif(not CACHE.exists(), reason="this host has no ld.so.cache")
def test_a_cache_cut_anywhere_is_refused() -> None:
    data = CACHE.read_bytes()
    for length in (0, 10, 47, 48, 100, len(data) // 2):
        with pytest.raises(DamagedFileError):
            read_ld_cache(MemoryBytes(data[:length]))


@pytest.mark.skipif(not (CACHE.exists() and LDCONFIG), reason="this host has no ld.so.cache")
@pytest.mark.parametrize("layout", ["compat", "old"])
def test_the_older_layouts_say_the_same_as_the_new_one(layout: str, tmp_path: Path) -> None:
    caches = []
    for each in ("new", layout):
        command = [str(LDCONFIG), "-X", "-c", each, "-C", str(tmp_path / each)]
        if subprocess.run(command, capture_output=True, check=False).returncode != 0:
            pytest.skip("this ldconfig does not write it")
        entries = read_ld_cache(MemoryBytes((tmp_path / each).read_bytes()))
        caches.append({name: [entry.path for entry in named] for name, named in entries.items()})
    assert caches[0] == caches[1]


def test_text_is_no_cache() -> None:
    with pytest.raises(DamagedFileError, match="no cache"):
        read_ld_cache(MemoryBytes(b"include /etc/ld.so.conf.d/*.conf\n" * 9))
