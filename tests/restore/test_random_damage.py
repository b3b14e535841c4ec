"""From a healthy machine of 500 components: damages by chance are all found, nothing else is, and all is repaired."""

import hashlib
import random
import shutil
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import TYPE_CHECKING

import pytest

from builders.elf import an_elf
from builders.machine import ALinuxMachine
from builders.signing import APublisher
from builders.source import NOW, ASource
from builders.tree import Tree, tree_of, without_times
from fundamen.changes.files import MakeLink, PutFile
from fundamen.changes.form import Means
from fundamen.changes.root_stores import ImportRoot
from fundamen.changes.settings import SetEntry, SetValue
from fundamen.evidence.catalogue import CatalogueAuthority
from fundamen.execution.home import journal_of, kept_bytes
from fundamen.formats.settings.setting import SettingFormat
from fundamen.model.paths import HostPath, MachinePath
from fundamen.restore.plan_file import PlanFile
from fundamen.restore.planned import prepare_plan
from fundamen.restore.rehearsal import rehearse
from fundamen.restore.restoration import perform, take_back
from fundamen.sources.os_archive import NewPackages
from fundamen.trace.trace import trace_program

PROGRAMS, EACH, SELDOM = 10, 15, 0.2
ROOT, OTHER = APublisher().root, APublisher().root
BUNDLE, ENVIRONMENT, SETTINGS = "/etc/ssl/certs/ca-certificates.crt", "/etc/environment", "/etc/tide.ini"

if TYPE_CHECKING:
    from fundamen.changes.kinds import PlannedStep


def names_of(program: int) -> list[str]:
    return [f"lib{program}-{number}.so" for number in range(EACH)]


def content(name: str, version: int = 2) -> bytes:
    """A library that no damage of one byte makes into another."""
    own = hashlib.sha256(f"{name} {version}".encode()).digest()
    return an_elf(soname=name, padding=16 * (len(name) + version)) + own  # which no loader reads


class Harbour:
    """A machine of ten programs, each with fifteen libraries of its own package, and a plan of how it should be."""

    def __init__(self, linux: ALinuxMachine, source: ASource, home: Path) -> None:
        self.linux, self.source, self.root = linux, source, linux.root
        steps: list[PlannedStep] = []
        for program in range(PROGRAMS):
            files = {name: content(name) for name in names_of(program)}
            source.published({n: content(n, 1) for n in files}, "1.0", package=f"Berth {program}")
            source.published(files, "2.0", package=f"Berth {program}")
            linux.program(f"/opt/p{program}/bin/app", needs=tuple(files), runpath="$ORIGIN/../own:$ORIGIN/../lib")
            for name, data in files.items():
                path, sha256 = f"/opt/p{program}/lib/{name}", hashlib.sha256(data).hexdigest()
                linux.file(path, data)
                steps.append(PutFile(path=path, sha256=sha256, size=len(data), name=name, mode=0o644))
        linux.file(BUNDLE, OTHER.pem + ROOT.pem).file(ENVIRONMENT, b"PATH=/opt/p0/bin:/usr/bin\n")
        linux.file(SETTINGS, b"[tide]\nstation = Marram\n").link("/srv/berths.js", "assets.js")
        added = f"/usr/local/share/ca-certificates/ardvane-root-r1-{ROOT.certificate.sha256[:8]}.crt"
        linux.file(added, ROOT.pem).file("/srv/assets.js", b"assets")
        steps += [
            ImportRoot(path=BUNDLE, certificate=ROOT.der, sha256=ROOT.certificate.sha256),
            SetEntry(path=ENVIRONMENT, key=("PATH",), entry="/opt/p0/bin", format=SettingFormat.SHELL),
            SetValue(path=SETTINGS, key=("tide", "station"), value="Marram"),
            MakeLink(path="/srv/berths.js", target="assets.js"),
        ]
        self.plan = PlanFile(program="/opt/p0/bin/app", machine="it", made_at=datetime.now(UTC), steps=tuple(steps))
        catalogue = source.trusted()
        self.catalogues, self.authorities = [catalogue], [CatalogueAuthority("it", catalogue.packages_with)]
        self.journal = journal_of(linux.opened(), HostPath(str(home)))
        ours = HostPath(str(home))
        self.means = Means(self.catalogues, source.store.fetch, lambda d: kept_bytes(ours, d), self.nothing, 0)
        self.healthy = without_times(tree_of(self.root))

    def nothing(self, names: Sequence[str]) -> NewPackages:
        raise AssertionError(names)

    def state(self) -> Tree:
        """All but what was set aside, in the folders of the copies that hid the right ones."""
        tree = without_times(tree_of(self.root))
        assert all("/own" not in path or path.endswith(("/own", ".aside-1")) for path in tree)
        return {path: state for path, state in tree.items() if "/own" not in path}

    def path(self, path: str) -> Path:
        return self.root / path.lstrip("/")

    def found_by_tracing(self) -> set[str]:
        machine = self.linux.opened()
        return {
            f"/opt/p{program}/lib/{fault.name}"
            for program in range(PROGRAMS)
            for fault in trace_program(machine, MachinePath(f"/opt/p{program}/bin/app"), self.authorities).faults
        }

    def planned(self) -> set[str]:
        planned = prepare_plan(self.linux.opened(), self.plan, self.means, self.authorities)
        return {str(step.path) for step in planned.work.steps}

    def restore_by_plan(self) -> int:
        machine = self.linux.opened()
        planned = prepare_plan(machine, self.plan, self.means, self.authorities)
        perform(machine, planned, self.journal, NOW)
        return 1

    def restore_by_programs(self) -> int:
        count = 0
        for program in sorted({int(path.split("/")[2][1:]) for path in self.found_by_tracing()}):
            machine = self.linux.opened()
            path = MachinePath(f"/opt/p{program}/bin/app")
            rehearsal = rehearse(machine, path, self.catalogues, self.authorities, self.source.store.fetch)
            if not rehearsal.plan.is_empty:
                perform(machine, rehearsal.prepare(self.authorities), self.journal, NOW)
                count += 1
        return count


Damage = Callable[[Harbour, str, random.Random], None]


def removed(harbour: Harbour, path: str, _chance: random.Random) -> None:
    harbour.path(path).unlink()


def cut(harbour: Harbour, path: str, chance: random.Random) -> None:
    data = harbour.path(path).read_bytes()
    harbour.path(path).write_bytes(data[: chance.randrange(len(data))])


def flipped(harbour: Harbour, path: str, chance: random.Random) -> None:
    data = bytearray(harbour.path(path).read_bytes())
    data[chance.randrange(len(data))] ^= 1 << chance.randrange(8)
    harbour.path(path).write_bytes(data)


def of_the_other_width(harbour: Harbour, path: str, _chance: random.Random) -> None:
    harbour.path(path).write_bytes(an_elf("x86", soname=path.rpartition("/")[2]))


def older(harbour: Harbour, path: str, _chance: random.Random) -> None:
    harbour.path(path).write_bytes(content(path.rpartition("/")[2], 1))


def of_another_library(harbour: Harbour, path: str, _chance: random.Random) -> None:
    harbour.path(path).write_bytes(content("libelse.so"))


def shadowed(harbour: Harbour, path: str, chance: random.Random) -> None:
    """A bad copy where the loader looks first; the right one stays as it is."""
    data = harbour.path(path).read_bytes()
    own = harbour.path(path.replace("/lib/", "/own/"))
    own.parent.mkdir(exist_ok=True)
    own.write_bytes(data[: chance.randrange(64, len(data) - hashlib.sha256().digest_size)])  # to the loader, too


def mixed(harbour: Harbour, path: str, chance: random.Random) -> None:
    """Several files of a package are those of its older version."""
    older(harbour, path, chance)


def without_permission(harbour: Harbour, path: str, _chance: random.Random) -> None:
    harbour.path(path).chmod(0o600)


def root_removed(harbour: Harbour, path: str, _chance: random.Random) -> None:
    harbour.path(path).write_bytes(OTHER.pem)


def setting_changed(harbour: Harbour, path: str, _chance: random.Random) -> None:
    harbour.path(path).write_bytes(b"[tide]\nstation = Reed\n")


def doubled(harbour: Harbour, path: str, _chance: random.Random) -> None:
    harbour.path(path).write_bytes(b"PATH=/opt/p0/bin:/usr/bin:/opt/p0/bin/\n")


def link_broken(harbour: Harbour, path: str, _chance: random.Random) -> None:
    harbour.path(path).unlink()
    harbour.path(path).symlink_to("nowhere.js")


OF_LIBRARIES: list[Damage] = [
    removed,
    cut,
    flipped,
    of_the_other_width,
    older,
    of_another_library,
    without_permission,
    shadowed,
]
SEEN_BY_A_LOADER: set[Damage] = {removed, cut, flipped, of_the_other_width, shadowed}
OTHERS: dict[str, Damage] = {
    BUNDLE: root_removed,
    SETTINGS: setting_changed,
    ENVIRONMENT: doubled,
    "/srv/berths.js": link_broken,
}


def damages(chance: random.Random) -> Iterator[tuple[str, Damage]]:
    paths = [f"/opt/p{program}/lib/{name}" for program in range(PROGRAMS) for name in names_of(program)]
    for path in chance.sample(paths, chance.randrange(1, 6)):
        yield path, chance.choice(OF_LIBRARIES)
    if chance.random() < SELDOM:
        program = chance.randrange(PROGRAMS)
        for name in chance.sample(names_of(program), chance.randrange(2, 6)):
            yield f"/opt/p{program}/lib/{name}", mixed
    for path in chance.sample(list(OTHERS), chance.randrange(3)):
        yield path, OTHERS[path]


@pytest.fixture
def tmp_path(in_memory: Path) -> Path:
    """A disk would only be slower."""
    return in_memory


@pytest.mark.parametrize(
    "seeds",
    [
        range(1),
        range(1, 2),
        pytest.param(range(500), marks=[pytest.mark.system, pytest.mark.long]),
        pytest.param(range(500, 1000), marks=[pytest.mark.system, pytest.mark.long]),
    ],
    ids=["one", "another", "one half", "the other half"],
)
def test_every_damage_is_found_put_right_and_can_be_undone(
    linux: ALinuxMachine, tmp_path: Path, home: Path, seeds: range
) -> None:
    harbour = Harbour(linux, ASource(tmp_path, home), home)
    assert (harbour.found_by_tracing(), harbour.planned()) == (set(), set())
    seen = set[str]()
    for seed in seeds:
        done = dict(damages(chance := random.Random(seed)))  # noqa: S311 - chance, no secret
        for path, damage in done.items():
            damage(harbour, path, chance)
        damaged = tree_of(harbour.root)
        hidden = {path for path, damage in done.items() if damage is shadowed}  # a plan knows nothing of other folders
        assert harbour.planned() == done.keys() - hidden, f"seed {seed}"
        visible = {path for path, damage in done.items() if damage in SEEN_BY_A_LOADER}
        traced = harbour.found_by_tracing()
        assert visible <= traced <= done.keys(), f"seed {seed}: {done}"
        restored = 0
        if hidden or (seed % 2 and visible):
            restored = harbour.restore_by_programs()
            assert harbour.found_by_tracing() == set(), f"seed {seed}"
        if harbour.planned():
            restored += harbour.restore_by_plan()
        assert harbour.state() == harbour.healthy, f"seed {seed}: {done}"
        for _ in range(restored):
            take_back(harbour.linux.opened(), harbour.journal, None)
        assert tree_of(harbour.root) == damaged, f"seed {seed}: {done}"
        mend(harbour, damaged)
        seen |= {damage.__name__ for damage in done.values()}
    assert len(seeds) < 100 or len(seen) == len(OF_LIBRARIES) + len(OTHERS) + 1


def mend(harbour: Harbour, damaged: Tree) -> None:
    """Make the machine healthy again by hand, for the next seed."""
    for own in harbour.root.glob("opt/*/own"):
        shutil.rmtree(own)
    for path, (before, mode, *_) in harbour.healthy.items():
        if without_times({path: damaged.get(path, (None,) * 6)})[path] == harbour.healthy[path]:
            continue
        target = harbour.root / path
        if isinstance(before, str):
            target.unlink()
            target.symlink_to(before)
        elif before is not None:
            target.write_bytes(before)
            target.chmod(mode & 0o7777)
