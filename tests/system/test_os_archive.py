"""A real Debian root and its archive: what is damaged comes back, and the package manager finds nothing to report."""

import fcntl
import os
import random
import shutil
import subprocess
from pathlib import Path

import pytest

from builders.debian_root import MAKES_A_ROOT
from builders.elf import an_elf
from conftest import Fundamen
from fundamen.machine.opening import open_machine
from fundamen.messages import say
from fundamen.model.paths import MachinePath
from fundamen.trace.trace import trace_program
from wording import says

PROGRAM = MachinePath("/usr/lib/git-core/git-remote-http")
CHROOT = shutil.which("chroot") or "/usr/sbin/chroot"
COUNT = 10
GONE = (
    "tmp",
    "var/local",
    "var/run",
    "var/lib/dpkg/updates",
    "usr/bin/chage",
    "usr/bin/passwd",
    "usr/lib/dbus-1.0/dbus-daemon-launch-helper",
    "usr/lib/systemd/system/system-systemd\\x2dcryptsetup.slice",
    "usr/lib/systemd/system/rc.service",
    "usr/lib/environment.d/99-environment.conf",
    "usr/share/terminfo/x/xterm-color",
    "usr/share/terminfo/E",
    "usr/include/linux/netfilter",
)

pytestmark = [*MAKES_A_ROOT, pytest.mark.xdist_group("archive")]


@pytest.fixture(scope="module")
def root(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("debian") / "root"
    # With names that differ by case alone, or have a backslash; with links that lead nowhere or to other packages; with
    # a program that belongs to a group by its package, and one by its set-up (dpkg-statoverride).
    names = "--include=git,systemd,dbus,linux-libc-dev,ncurses-term"
    command: list[str | Path] = ["debootstrap", "--variant=minbase", names, "bookworm", folder]
    made = subprocess.run(command, capture_output=True, check=False)
    assert made.returncode == 0, made.stdout[-2000:]
    assert verified(folder) == ""
    return folder


def verified(root: Path) -> str:
    """The report of the package manager's own check."""
    return subprocess.run(["dpkg", f"--root={root}", "--verify"], capture_output=True, text=True, check=False).stdout


def damaged(path: Path, how: int) -> None:
    """Damage a library in one of five ways."""
    data = path.read_bytes()
    if how == 0:
        path.unlink()
    else:
        middle = len(data) // 2
        changed = {1: data[:middle] + bytes([data[middle] ^ 1]) + data[middle + 1 :], 2: data[:4000], 3: b""}
        path.write_bytes(changed.get(how, data[:18] + b"\3" + data[19:]))  # 4: for another architecture


def test_what_a_shell_gathers_of_the_whole_root_is_surveyed_as_the_root_itself(
    root: Path, fundamen: Fundamen, tmp_path: Path
) -> None:
    (root / "usr/lib/dead").symlink_to("/etc/nowhere")
    library = root / "usr/lib/x86_64-linux-gnu/libcurl-gnutls.so.4"
    target = library.readlink()
    library.unlink()
    script = fundamen("capture", "--script").out.encode()
    with (tmp_path / "root.gathered").open("wb") as file:
        path = "PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
        words = [CHROOT, str(root), "env", "-i", path, "sh", "-s", "--", "--all"]
        subprocess.run(words, input=script, stdout=file, check=True)
    assert fundamen("capture", "root.capture", "--from", "root.gathered", "--yes").status == 0
    for depth in ("needs", "used"):
        [here] = fundamen("survey", "--json", "--depth", depth, "-m", root).records
        [there] = fundamen("survey", "--json", "--depth", depth, "-m", "root.capture").records
        for record in (here, there):
            del record["machine"], record["next"], record["gaps"]  # kept packages are not gathered
        assert here == there
        assert (here["files"] > 5000, "/usr/lib/dead" in here["broken_links"]) == (True, True)
        assert "libcurl-gnutls.so.4" in [cause["name"] for cause in here["causes"]]
    [both] = fundamen("compare", "--json", root, "root.capture").records
    assert ([each["name"] for each in both["differences"]], both["gaps"]) == (["PATH"], [])
    (root / "usr/lib/dead").unlink()
    library.symlink_to(target)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_ten_damaged_libraries_come_back_from_the_archive(root: Path, fundamen: Fundamen, seed: int) -> None:
    machine = open_machine(str(root), environment={})
    libraries = [c.path for c in trace_program(machine, PROGRAM).components if c.path and ".so" in c.path]
    chosen = random.Random(seed).sample([p for p in libraries if "ld-linux" not in p and "libc.so" not in p], COUNT)  # noqa: S311 - chance, no secret
    for number, library in enumerate(chosen):
        damaged(Path(machine.host_path(library)), number % 5)
    link = root / chosen[0].lstrip("/")
    if link.is_symlink():
        link.unlink()  # with the file to which it led
    assert len([line for line in verified(root).splitlines() if ".so" in line]) >= COUNT
    ran = fundamen("restore", "--yes", "-m", str(root), PROGRAM)
    assert ran.status == 0, ran.out + ran.err
    assert verified(root) == ""
    started = subprocess.run([CHROOT, root, PROGRAM], capture_output=True, text=True, check=False)
    assert "usage: git remote-curl" in started.stderr


@pytest.mark.parametrize("seed", [1, 2])
def test_one_plan_brings_back_programs_and_files_that_no_program_needs(
    root: Path, fundamen: Fundamen, seed: int
) -> None:
    chance = random.Random(seed)  # noqa: S311 - to be the same each time
    shared = [path for path in sorted((root / "usr/share").rglob("*")) if path.is_file() and not path.is_symlink()]
    owned = [path for path in shared if any(part in path.parts for part in ("perl", "git-core", "bash-completion"))]
    for number, path in enumerate(chance.sample(owned, COUNT)):
        damaged(path, number % 5)
    damaged((root / "usr/lib/x86_64-linux-gnu/libz.so.1").resolve(), seed)
    if seed == 1:
        damaged(root / "usr/bin/perl", 1)  # and with it its other name
    shutil.rmtree(root / "usr/share/git-core/templates/hooks")
    whole = rights(root)
    for name in (*GONE, *(("lib64", "usr/bin/sh") if seed == 2 else ())):  # without these, nothing starts
        is_folder = (root / name).is_dir() and not (root / name).is_symlink()
        shutil.rmtree(root / name) if is_folder else (root / name).unlink()
    setting = root / "etc/bash.bashrc"
    own = setting.read_bytes()
    setting.write_bytes(own + b"# mine\n")
    before = tree(root)
    try:
        ran = fundamen("survey", "-m", root, "--depth", "all", "--restore", "--yes")
        assert ran.status == 0, ran.out + ran.err
        assert [line.split()[-1] for line in verified(root).splitlines()] == ["/etc/bash.bashrc"]
        assert fundamen("undo", "-m", root).status == 0
        assert tree(root) == before
        assert fundamen("survey", "-m", root, "--depth", "all", "--restore", "--yes").status == 0
        after = rights(root)
        assert {path: after.get(path) for path in whole} == whole
    finally:
        setting.write_bytes(own)
    assert verified(root) == ""


def rights(root: Path) -> dict[str, tuple[int, int, int, str]]:
    """Kind and mode, owner, group and target of everything that stands."""
    found = {}
    for path in root.rglob("*"):
        status = path.lstat()
        target = os.readlink(path) if path.is_symlink() else ""
        found[str(path)] = (status.st_mode, status.st_uid, status.st_gid, target)
    return found


def tree(root: Path) -> dict[str, tuple[int, int, int, int, bytes]]:
    """Mode, owner, number of names, time and content of every file, and where links lead."""
    found = {}
    for path in root.rglob("*"):
        status = path.lstat()
        content = os.readlink(path).encode() if path.is_symlink() else path.read_bytes() if path.is_file() else b""
        names, time = (status.st_nlink, status.st_mtime_ns) if path.is_file() else (0, 0)
        found[str(path)] = (status.st_mode, status.st_uid, names, time, content)
    return found


def test_what_stands_in_the_place_of_a_packages_file_is_replaced_or_reported_and_never_written_through(
    root: Path, fundamen: Fundamen
) -> None:
    places = {"usr/bin/chage": "/nowhere", "usr/bin/expiry": "passwd", "usr/bin/chfn": "/opt/mine"}
    (root / "opt/mine").write_text("mine")
    for name, target in places.items():
        (root / name).unlink()
        (root / name).symlink_to(target)
    folder, pipe, other = (root / "usr/share/zoneinfo" / name for name in ("Asia/Aden", "Asia/Almaty", "Arctic"))
    folder.unlink()
    folder.mkdir()
    pipe.unlink()
    os.mkfifo(pipe)
    other.rename(root / "was")
    other.write_text("no folder")
    before = tree(root)
    [record] = fundamen("survey", "-m", root, "--depth", "all", "--restore", "--yes", "--json").records[1:]
    assert record["state"] == "restored"
    assert {Path(each["name"]).name: each["why"]["text"].partition(":")[0] for each in record["unmet"]} == {
        "Longyearbyen": say("restore.in-which-it-belongs-is-no", folder="/usr/share/zoneinfo/Arctic"),
    }
    assert (folder.is_file(), pipe.is_file(), folder.with_name("Aden.aside-1").is_dir()) == (True, True, True)
    assert not any((root / name).is_symlink() for name in places)
    assert ((root / "opt/mine").read_text(), (root / "nowhere").exists()) == ("mine", False)
    assert "Arctic/Longyearbyen" in verified(root).removesuffix("\n")
    assert verified(root).count("\n") == 1  # all but the one whose folder is no folder
    assert fundamen("undo", "-m", root).status == 0
    assert tree(root) == before
    folder.rmdir()
    pipe.unlink()
    other.unlink()
    (root / "was").rename(other)
    assert fundamen("survey", "-m", root, "--depth", "all", "--restore", "--yes").status == 0
    assert verified(root) == ""


def test_a_program_gets_the_rights_of_its_package_back_and_nothing_else_does(root: Path, fundamen: Fundamen) -> None:
    program = root / "usr/bin/passwd"
    before = program.stat()
    for mode, owner in ((0o755, 0), (0o4777, 0), (0o755, 7)):
        os.chown(program, owner, owner)
        program.chmod(mode)
        broken = tree(root)
        assert fundamen("restore", "-m", root, "--yes", "/usr/bin/passwd").status == 0
        now = program.stat()
        assert (now.st_mode, now.st_uid, now.st_gid) == (before.st_mode, before.st_uid, before.st_gid)
        assert fundamen("undo", "-m", root).status == 0
        assert tree(root) == broken
        os.chown(program, before.st_uid, before.st_gid)
        program.chmod(0o4755)
    program.chmod(0o755)
    whole = program.read_bytes()
    program.write_bytes(whole + b"altered")  # its own bytes are no package's: it must not run as root
    assert fundamen("restore", "-m", root, "--rehearse", "/usr/bin/passwd", "--no-archive").status in {0, 1}
    assert program.stat().st_mode & 0o4000 == 0
    program.write_bytes(whole)
    program.chmod(0o4755)


def test_where_the_archive_has_a_newer_version_only_the_upgrade_is_named(root: Path, fundamen: Fundamen) -> None:
    status, lost = root / "var/lib/dpkg/status", root / "usr/share/zoneinfo/Zulu"
    before, target = status.read_text(), lost.readlink()
    at = before.index("\nVersion: ", before.index("\nPackage: tzdata\n")) + len("\nVersion: ")
    status.write_text(f"{before[:at]}2019a-1{before[before.index(chr(10), at) :]}")
    lost.unlink()
    ran = fundamen("restore", "--rehearse", "-m", root, "/var/lib/dpkg/info/tzdata.list")
    assert (ran.status, "apt-get install --only-upgrade tzdata" in ran.err) == (1, True), ran.err
    lost.symlink_to(target)
    status.write_text(before)


def test_what_an_installation_has_made_of_a_packages_file_is_left_alone(root: Path, fundamen: Fundamen) -> None:
    made, gone = (root / "usr/share/git-core/templates" / name for name in ("description", "info/exclude"))
    sums = root / "var/lib/dpkg/info/git.md5sums"
    recorded, brought = sums.read_text(), made.read_bytes()
    lines = [line for line in recorded.splitlines(keepends=True) if not line.endswith("templates/description\n")]
    assert len(lines) == len(recorded.splitlines()) - 1
    sums.write_text("".join(lines))
    try:
        for content, expected in ((b"made here", b"made here"), (b"", brought)):  # an empty one is of no use
            made.write_bytes(content)
            gone.unlink()
            ran = fundamen("restore", "--yes", "-m", root, "/var/lib/dpkg/info/git.list")
            assert (made.read_bytes(), gone.exists()) == (expected, True), ran.out + ran.err
    finally:
        sums.write_text(recorded)
        made.write_bytes(brought)
    assert verified(root) == ""


def test_what_another_package_has_taken_over_is_left_to_it(root: Path, fundamen: Fundamen, tmp_path: Path) -> None:
    taken, own = (root / "usr/share/git-core/templates" / name for name in ("description", "info/exclude"))
    package = tmp_path / "tide"
    (package / "usr/share/git-core/templates").mkdir(parents=True)
    (package / "usr/share/git-core/templates/description").write_text("tides")
    (package / "DEBIAN").mkdir()
    control = "Package: tide\nVersion: 1\nArchitecture: all\nMaintainer: Reed\nReplaces: git\nDescription: tides\n"
    (package / "DEBIAN/control").write_text(control)
    subprocess.run(["dpkg-deb", "--root-owner-group", "--build", package, root / "tide.deb"], check=True)
    subprocess.run([CHROOT, str(root), "dpkg", "--install", "/tide.deb"], check=True)
    own.unlink()
    assert fundamen("survey", "-m", root, "--depth", "all", "--restore", "--yes").status == 0
    assert (taken.read_text(), own.exists(), verified(root)) == ("tides", True, "")


def test_an_archive_whose_keys_the_machine_does_not_have_is_refused(root: Path, fundamen: Fundamen) -> None:
    library = root / "usr/lib/x86_64-linux-gnu/libz.so.1"
    keys, aside = root / "etc/apt/trusted.gpg.d", root / "etc/apt/aside"
    real = library.resolve()
    content = real.read_bytes()
    real.write_bytes(b"")
    keys.rename(aside)
    try:
        ran = fundamen("restore", "--yes", "-m", str(root), PROGRAM)
        assert (ran.status, says(ran.err, "sources.debian-archive-is-refused-for")) == (4, True), ran.out + ran.err
        assert real.read_bytes() == b""
    finally:
        aside.rename(keys)
        real.write_bytes(content)


def test_nothing_that_the_machines_configuration_names_is_run(root: Path, fundamen: Fundamen, tmp_path: Path) -> None:
    trap = tmp_path / "trap"
    hook = f'APT::Update::Pre-Invoke {{"touch {trap}";}}; Dir::Bin::apt-key "/bin/touch {trap}";\n'
    (root / "etc/apt/apt.conf.d/99trap").write_text(hook)
    real = (root / "usr/lib/x86_64-linux-gnu/libz.so.1").resolve()
    real.unlink()
    assert fundamen("restore", "--yes", "-m", str(root), PROGRAM).status == 0
    assert not trap.exists()
    assert verified(root) == ""


def installed(root: Path) -> str:
    command = ["dpkg-query", f"--admindir={root}/var/lib/dpkg", "--show"]
    return subprocess.run(command, capture_output=True, text=True, check=True).stdout


def test_a_package_that_is_not_installed_is_installed_with_what_it_needs_and_purged_by_undo(
    root: Path, fundamen: Fundamen
) -> None:
    program = root / "opt/tidebook"
    program.parent.mkdir(exist_ok=True)
    program.write_bytes(an_elf(needs=("libxml2.so.2",), interpreter="/lib64/ld-linux-x86-64.so.2"))
    program.chmod(0o755)
    before, on = installed(root), ("-m", str(root))
    assert "libxml2.so.2" in fundamen("trace", *on, "/opt/tidebook").out
    rehearsed = fundamen("restore", "--rehearse", "--install", "libxml2", *on, "/opt/tidebook")
    assert "This will install 2 packages; tidebook then has all that it needs." in rehearsed.out, rehearsed.out
    assert installed(root) == before
    ran = fundamen("restore", "--yes", "--install", "libxml2", *on, "/opt/tidebook")
    assert ran.status == 0, ran.out + ran.err
    new = {line.partition("\t")[0] for line in set(installed(root).splitlines()) - set(before.splitlines())}
    assert {name.partition(":")[0] for name in new} == {"libxml2", "libicu72"}
    assert verified(root) == ""
    assert fundamen("trace", *on, "/opt/tidebook").status == 0
    depending = ["dpkg", f"--root={root}", "--no-act", "--purge", "libicu72"]
    assert subprocess.run(depending, capture_output=True, check=False).returncode != 0
    assert fundamen("undo", *on).status == 0
    assert (installed(root), verified(root)) == (before, "")


def test_what_would_change_what_is_installed_is_not_installed_in_passing(root: Path, fundamen: Fundamen) -> None:
    before = installed(root)
    for name, status, said in (
        ("mawk-", 2, "no name of a package"),
        ("libelogind0", 2, "would be upgraded or removed"),
        ("no-such-package-here", 3, "Unable to locate"),
    ):
        ran = fundamen("restore", "--rehearse", "--install", name, "-m", str(root), PROGRAM)
        assert (ran.status, said in ran.err) == (status, True), ran.out + ran.err
    assert installed(root) == before


def test_where_the_package_manager_is_busy_nothing_is_installed_and_it_says_so(root: Path, fundamen: Fundamen) -> None:
    program, before = root / "opt/saltgrass", installed(root)
    program.write_bytes(an_elf(needs=("libjansson.so.4",), interpreter="/lib64/ld-linux-x86-64.so.2"))
    program.chmod(0o755)
    on = ("-m", str(root))
    lock = root / "var/lib/dpkg/lock"
    with lock.open("w") as file:  # as another run of the package manager holds it
        fcntl.lockf(file, fcntl.LOCK_EX)
        ran = fundamen("restore", "--yes", "--install", "libjansson4", *on, "/opt/saltgrass")
    assert (ran.status, "lock" in ran.err) == (5, True), ran.out + ran.err
    assert installed(root) == before
