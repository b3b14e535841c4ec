"""Lock files: what fits, what has aged, what was altered; one entry is refreshed and nothing else changes."""

import base64
import hashlib
import json
import subprocess
import sys
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.media import a_tar, a_zip
from conftest import Fundamen
from fundamen.formats.lock_file import LockKind, read_lock_file
from fundamen.model.errors import DamagedFileError
from wording import says

WHEEL, TARBALL = "saltgrass-4.2-py3-none-any.whl", "saltgrass-4.2.tgz"
OLD, NEW = a_tar({"package/tide.js": b"what was locked"}), b"the file that lies there"


def sha256(data: bytes) -> str:
    return hashlib.sha256(data).hexdigest()


def a_pylock(digest: str, name: str = WHEEL, version: str = "4.2") -> str:
    return (
        'lock-version = "1.0"\ncreated-by = "harbour"\n\n[[packages]]  # tides\nname = "saltgrass"\n'
        f'version = "{version}"\n[[packages.wheels]]\nname = "{name}"\nurl = "https://it.example/{name}"\n'
        f'hashes = {{ sha256 = "{digest}" }}\n'
    )


def a_package_lock(data: bytes) -> str:
    integrity = "sha512-" + base64.b64encode(hashlib.sha512(data).digest()).decode()
    entry = {"version": "4.2", "resolved": f"https://it.example/{TARBALL}", "integrity": integrity}
    packages = {"": {"name": "tidebook"}, "node_modules/saltgrass": entry}
    return json.dumps({"name": "tidebook", "lockfileVersion": 3, "packages": packages}, indent=2) + "\n"


def a_requirements_file(digest: str) -> str:
    return (
        f"# the harbour's\nreed==1.0 \\\n    --hash=sha256:{sha256(b'reed')}\nsaltgrass==4.2 --hash=sha256:{digest}\n"
    )


LOCKS = {
    "pylock.toml": (a_pylock(sha256(OLD)), LockKind.PYLOCK),
    "package-lock.json": (a_package_lock(OLD), LockKind.NPM),
    "requirements.txt": (a_requirements_file(sha256(OLD)), LockKind.REQUIREMENTS),
}


@pytest.fixture
def there(tmp_path: Path) -> Path:
    folder = tmp_path / "artefacts"
    folder.mkdir()
    for name in (WHEEL, TARBALL):
        (folder / name).write_bytes(NEW)
    return folder


def recorded(fundamen: Fundamen, tmp_path: Path, data: bytes) -> None:
    """A reference that vouches for some bytes."""
    clean = tmp_path / "clean"
    clean.mkdir()
    for name in (WHEEL, TARBALL):
        (clean / name).write_bytes(data)
    assert fundamen("references", "record", "wheels", str(clean)).status == 0


def state(fundamen: Fundamen, lock: Path, there: Path, *more: str) -> tuple[int, dict[str, str]]:
    ran = fundamen("locks", "check", str(lock), "--artefacts", str(there), *more, "--json")
    [record] = ran.records
    return ran.status, {entry["name"]: entry["state"] for entry in record["entries"]}


@pytest.mark.parametrize("name", LOCKS)
def test_an_aged_entry_is_reported_refreshed_and_undone(
    name: str, there: Path, fundamen: Fundamen, tmp_path: Path
) -> None:
    text, kind = LOCKS[name]
    lock = tmp_path / name
    lock.write_text(text)
    assert read_lock_file(text, name).kind is kind
    assert state(fundamen, lock, there)[1]["saltgrass"] == "unknown"
    refreshing = ("locks", "refresh", "--yes", str(lock), "saltgrass", "--artefacts", str(there))
    refused = fundamen(*refreshing)
    assert (refused.status, says(refused.err, "sources.is-not-the-file-that-was-locked")) == (4, True)
    recorded(fundamen, tmp_path, NEW)
    assert state(fundamen, lock, there)[1]["saltgrass"] == "aged"
    assert fundamen(*refreshing).status == 0
    assert state(fundamen, lock, there) == (0, state(fundamen, lock, there)[1] | {"saltgrass": "fits"})
    old, new = text.splitlines(), lock.read_text().splitlines()
    assert sum(one != other for one, other in zip(old, new, strict=True)) == 1
    assert fundamen("undo").status == 0
    assert lock.read_text() == text


def test_a_file_that_was_altered_is_distinguished_from_a_lock_file_that_has_aged(
    there: Path, fundamen: Fundamen, tmp_path: Path
) -> None:
    recorded(fundamen, tmp_path, OLD)
    lock = tmp_path / "pylock.toml"
    lock.write_text(LOCKS["pylock.toml"][0])
    assert state(fundamen, lock, there) == (1, {"saltgrass": "altered"})
    ran = fundamen("locks", "refresh", "--yes", str(lock), "saltgrass", "--artefacts", str(there))
    assert (ran.status, says(ran.err, "sources.knows-the-file-that-was-locked")) == (4, True)


def test_a_catalogue_vouches_for_artefacts_that_the_packager_took_in(
    there: Path, fundamen: Fundamen, tmp_path: Path
) -> None:
    media, lock = tmp_path / "media", tmp_path / "package-lock.json"
    media.mkdir()
    (media / "saltgrass-4.3-cp311-cp311-musllinux_1_2_aarch64.whl").write_bytes(a_zip())
    for name in (TARBALL, "reed_bed-1.0.tar.gz"):
        (media / name).write_bytes(OLD)
    words = ("--artefacts", "--publisher", "Ardvane Instruments", "--keys", "keys", "--json")
    alone = fundamen("sources", "publish", "source", "--from", str(media / TARBALL), *words)
    assert [record["package"] for record in alone.records] == ["saltgrass 4.2 for any platform"]
    published = fundamen("sources", "publish", "source", "--from", str(media), *words)
    assert [record["package"] for record in published.records] == [
        "reed-bed 1.0 for any platform",
        "saltgrass 4.2 for any platform",
        "saltgrass 4.3 for Linux aarch64",
    ]
    fingerprint = published.records[0]["fingerprint"]
    assert fundamen("sources", "trust", "source", "--fingerprint", fingerprint).status == 0
    lock.write_text(a_package_lock(OLD))
    assert state(fundamen, lock, there) == (1, {"saltgrass": "altered"})  # by SHA-512, which no catalogue lists
    (there / TARBALL).unlink()
    (there / WHEEL).unlink()
    ran = fundamen("locks", "check", str(lock), "--artefacts", str(there))
    assert says(ran.out, "sources.has-the-file-that-was-locked")
    lock.write_text(a_requirements_file(sha256(OLD)).replace("saltgrass==4.2", "saltgrass==4.1"))
    pinned = fundamen("locks", "check", str(lock), "--artefacts", str(there), "--for", "aarch64")
    assert "versions that have one: 4.3, 4.2; the nearest is 4.2" in " ".join(pinned.out.split()), pinned.out


def test_what_fits_and_what_is_not_there_is_no_fault(there: Path, fundamen: Fundamen, tmp_path: Path) -> None:
    lock = tmp_path / "requirements.txt"
    lock.write_text(a_requirements_file(sha256(NEW)))
    assert state(fundamen, lock, there) == (0, {"reed": "absent", "saltgrass": "fits"})


def test_a_version_without_a_build_for_the_processor_names_those_that_have_one(
    there: Path, fundamen: Fundamen, tmp_path: Path
) -> None:
    (there / WHEEL).unlink()
    (there / TARBALL).unlink()
    builds = {
        "4.1": "manylinux2014_aarch64",
        "4.2": "manylinux2014_x86_64",
        "4.3": "macosx_11_0_arm64",
        "5.0": "win_arm64",
    }
    for version, tag in builds.items():
        (there / f"saltgrass-{version}-cp311-cp311-{tag}.whl").write_bytes(NEW)
    lock = tmp_path / "pylock.toml"
    lock.write_text(a_pylock(sha256(NEW), f"saltgrass-4.2-cp311-cp311-{builds['4.2']}.whl"))
    words = ("locks", "check", str(lock), "--artefacts", str(there), "--json", "--for")
    [entry] = fundamen(*words, "aarch64").records[0]["entries"]
    assert (entry["builds"], entry["nearest"]) == (["5.0", "4.3", "4.1"], "4.3")
    assert fundamen(*words, "x86_64").status == 0
    [entry] = fundamen(*words, "x86").records[0]["entries"]
    assert (entry["builds"], entry["nearest"]) == (["none"], None)


def test_pips_own_digests_are_read(fundamen: Fundamen, there: Path, tmp_path: Path) -> None:
    done = subprocess.run(
        [sys.executable, "-m", "pip", "hash", str(there / WHEEL)], capture_output=True, text=True, check=True
    )
    lock = tmp_path / "requirements.txt"
    lock.write_text(f"saltgrass==4.2 {done.stdout.splitlines()[-1]}\n")
    assert state(fundamen, lock, there) == (0, {"saltgrass": "fits"})


@pytest.mark.parametrize("text", ["", "{", "{}", '{"packages": 7}', 'lock-version = "1.0"\npackages = 3\n', "reed\n"])
def test_what_is_no_lock_file_is_refused(text: str) -> None:
    with pytest.raises(DamagedFileError):
        read_lock_file(text, "lock")


@given(data=st.data(), name=st.sampled_from(sorted(LOCKS)))
def test_a_changed_lock_file_is_read_or_refused(data: st.DataObject, name: str) -> None:
    text = LOCKS[name][0]
    at = data.draw(st.integers(0, len(text)))
    changed = text[:at] + data.draw(st.text(max_size=5)) + text[at + data.draw(st.integers(0, 5)) :]
    try:
        lock = read_lock_file(changed, name)
    except DamagedFileError:
        return
    assert all(
        len(file.digest) % 32 == 0 and set(file.digest) <= set("0123456789abcdef")
        for entry in lock.entries
        for file in entry.files
    )
