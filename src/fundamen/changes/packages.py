"""The step that installs packages of the operating system's archive, by its package manager.

Guarantees: only the files that apt has fetched and checked are installed; nothing that is installed is upgraded or
removed for it. Its inverse purges exactly the packages that were new; log and caches of the package manager are what
it makes of them, and do not come back to the byte. Sources: dpkg(1), "ACTIONS", "--root", "--no-act".
"""

import os
import re
import shutil
from collections.abc import Iterator, Mapping, Sequence
from contextlib import ExitStack, contextmanager, suppress
from typing import Annotated

import msgspec

from fundamen.changes.base import Keeping, Record, Site, Step, Tell
from fundamen.changes.form import Form, Part, PlanResolution
from fundamen.machine.host_tools import run_tool
from fundamen.machine.machine import Machine
from fundamen.machine.overlay import Layer
from fundamen.messages import UNSAID, Message, say
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.file_state import FileState
from fundamen.placing.replacing import name_of_ours, remove
from fundamen.sources.apt import WantedPackage
from fundamen.sources.os_archive import NewPackages

_SECONDS = 1800
_STATUS = MachinePath("/var/lib/dpkg/status")
_OWN_DPKG = MachinePath("/usr/bin/dpkg")
_ARCHIVES = MachinePath("/var/cache/apt/archives")
_NEW = os.O_WRONLY | os.O_CREAT | os.O_EXCL | getattr(os, "O_NOFOLLOW", 0)
_STANZA = re.compile(rb"^Package: (\S+)\n((?:.+\n)*)", re.MULTILINE)
_INSTALLED = b"install ok installed"


class PackagesRecord(Record, frozen=True, kw_only=True, tag_field="kind", tag="packages"):
    """Packages are installed by the operating system's package manager."""

    undone = "purged"

    names: tuple[str, ...]  # with their architectures, as NAME:ARCHITECTURE; none of them was known before
    versions: tuple[str, ...]  # of each
    files: tuple[str, ...]  # the host paths of the packages, as apt has fetched and checked them

    def make(self, site: Site, _tell: Tell) -> None:
        """Install the packages. Raises: OSError: the package manager could not, in its own words."""
        _dpkg(site, "--force-confdef", "--force-confold", "--install", files=self.files)

    def is_made(self, site: Site) -> bool:
        """Whether all of them are installed in the version that was planned."""
        states = _states(site)
        wanted = zip(self.names, self.versions, strict=True)
        return all(states.get(name) == (_INSTALLED, version) for name, version in wanted)

    def obstacle(self, site: Site) -> Message:
        """Why the packages cannot be purged; empty where they can."""
        known = self._known_names(site)
        if not known:
            return UNSAID
        try:
            _dpkg(site, "--no-act", "--purge", *known)
        except OSError as error:
            return say("changes.the-package-manager-would-not-purge", known=", ".join(known), strerror=error.strerror)
        return UNSAID

    def take_back(self, site: Site) -> None:
        """Purge those of the packages that the package manager knows of."""
        if known := self._known_names(site):
            _dpkg(site, "--force-remove-reinstreq", "--purge", *known)

    def _known_names(self, site: Site) -> list[str]:
        states = _states(site)
        return [name for name in self.names if name in states]


class InstallPackages(Step, frozen=True, kw_only=True):
    """One step: packages of the operating system's archive are installed by its package manager."""

    verb = "install"

    new: NewPackages

    @property
    def packages(self) -> tuple[WantedPackage, ...]:
        """The packages."""
        return self.new.wanted

    @property
    def preview_details(self) -> tuple[str, ...]:
        """Details for a preview."""
        return self.installs

    @property
    def installs(self) -> tuple[str, ...]:
        """The packages, with their versions."""
        return tuple(f"{each.name} {each.version}" for each in self.packages)

    def lay_over(self, layer: Layer, _contents: Mapping[str, HostPath]) -> None:
        """Lay over a machine what the packages hold and the machine lacks."""
        machine = layer.base
        layer.placed |= self.new.places()
        for path, target in self.new.links().items():
            layer.links[path] = machine.join(machine.real(machine.folder_of(path)), target)

    def form(self, _state: FileState | None) -> "InstallByName":
        """The step in a plan file."""
        return InstallByName(path=str(_STATUS.rpartition("/")[0]), names=tuple(each.name for each in self.packages))

    def keep(self, keeping: Keeping) -> PackagesRecord:
        """Write down what is to be installed; nothing is changed.

        Raises:
            OSError: we may not, or one of the packages is there already.
        """
        site = keeping.site
        if os.geteuid() != 0:
            raise PermissionError(
                1, say("changes.installing-packages-needs-the-administrator-rights"), site.machine.root
            )
        names = tuple(f"{each.name}:{each.architecture}" for each in self.packages)
        if known := [name for name in names if name in _states(site)]:
            raise FileExistsError(17, say("changes.the-package-manager-knows-it-now"), known[0])
        versions = tuple(each.version for each in self.packages)
        return PackagesRecord(path=self.path, names=names, versions=versions, files=self.new.files)


def _states(site: Site) -> dict[str, tuple[bytes, str]]:
    """(state, version) of each package that the package manager knows of, by name and architecture."""
    with site.machine.place(_STATUS).open_to_read() as file:
        text = file.read()
    found = {}
    for stanza in _STANZA.finditer(text):
        fields = dict(line.split(b": ", 1) for line in stanza[2].splitlines() if b": " in line and line[:1] != b" ")
        name = f"{stanza[1].decode()}:{fields.get(b'Architecture', b'').decode()}"
        found[name] = (fields.get(b"Status", b""), fields.get(b"Version", b"").decode())
    return found


def _dpkg(site: Site, *words: str, files: Sequence[str] = ()) -> None:
    """Run the package manager: a mounted root's own one within it, for only that knows its accounts and groups."""
    machine = site.machine
    command = ["dpkg", f"--root={machine.root}"]
    with ExitStack() as handed_in:
        if not machine.is_live and machine.look(_OWN_DPKG).is_executable and shutil.which("chroot") is not None:
            with suppress(OSError, UnreadableError):
                files = [handed_in.enter_context(_handed_in(machine, file)) for file in files]
                command = ["chroot", machine.root, _OWN_DPKG]
        # Apart: a Ctrl-C is ours to act on, not the package manager's.
        done = run_tool([*command, *words, *files], _SECONDS, apart=True, DEBIAN_FRONTEND="noninteractive")
    if done.returncode:
        lines = [line.strip() for line in done.stderr.splitlines() if line.strip()]
        raise OSError(
            0, "; ".join(lines[:3]) or say("changes.it-ended-with-status", returncode=done.returncode), "dpkg"
        )


@contextmanager
def _handed_in(machine: Machine, file: str) -> Iterator[str]:
    """A package's file where the root's own package manager reads it, for as long as that runs. Raises: OSError."""
    path = machine.join(_ARCHIVES, name_of_ours())
    place = machine.place(path)
    with open(file, "rb") as source, os.fdopen(place.open(_NEW, 0o600), "wb") as target:
        shutil.copyfileobj(source, target)
    try:
        yield path
    finally:
        remove(place)


class InstallByName(Form, frozen=True, kw_only=True, tag="install packages"):
    """Packages are installed by the operating system's package manager; the path is only for people."""

    names: Annotated[tuple[Part, ...], msgspec.Meta(min_length=1, max_length=1000)]

    @property
    def title(self) -> str:
        """Title for the history."""
        return ", ".join(self.names)

    def resolve(self, resolving: PlanResolution) -> None:
        """Add the steps for this machine."""
        step = installation_of(resolving.means.bring(self.names), self.because)
        if step is not None:
            resolving.steps[f"packages {step.path}"] = step


def installation_of(new: NewPackages, because: str) -> InstallPackages | None:
    """The step that installs some packages; None where there are none."""
    names = MachinePath(", ".join(each.name for each in new.wanted))
    return InstallPackages(path=names, because=because, new=new) if new.wanted else None
