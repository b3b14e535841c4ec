"""Ask apt for packages of the archive that a machine was installed from, by apt's own commands and signature checks.

Sources: apt-get(8), apt.conf(5), apt-secure(8). Guarantees: nothing that the machine's configuration names is run, and
nothing on the machine is written: of its configuration only the lists of archives, the keys and the preferences are
read; what apt fetches lies in a folder of ours. All other settings of apt, such as the proxy, are this host's own.
"""

import contextlib
import os
import re
import shutil
from collections.abc import Sequence
from functools import cache

import msgspec

from fundamen.formats.versions import compare
from fundamen.machine.host_tools import run_tool
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UntrustedError, UsageError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.file_state import digest_of_file
from fundamen.placing.own_files import write_whole
from fundamen.sources.apt_lists import drop_unproven, take_over_lists

_SECONDS = 900
_NAME = re.compile(r"^[a-z0-9][a-z0-9+.\-]+$")  # Debian Policy, section 5.6.1
_VERSION = re.compile(r"^[A-Za-z0-9.+:~\-]+$")
_SIMULATED = re.compile(  # of what apt-get -s writes
    r"^(?P<what>Inst|Conf|Remv|Purg) (?P<name>\S+)(?P<old> \[[^\]]+\])?"
    r"(?: \((?P<version>\S+) .*\[(?P<architecture>\S+)\]\))?"
)
_CANDIDATE = re.compile(r"^  Candidate: (?P<version>\S+)$", re.MULTILINE)  # of what apt-cache policy writes
_TARGET = re.compile(r"^Acquire::IndexTargets::deb::([\w-]+)::", re.MULTILINE)  # of what apt-config dump writes
_UNPROVEN = ("is not signed", "NO_PUBKEY", "signatures were invalid", "Hash Sum mismatch", "EXPKEYSIG", "BADSIG")


class WantedPackage(msgspec.Struct, frozen=True):
    """One package in one version."""

    name: str
    version: str
    architecture: str  # as Debian calls it

    @property
    def is_plain(self) -> bool:
        """Whether its parts have the form of such parts: they come from a database of the machine."""
        return bool(_NAME.match(self.name) and _VERSION.match(self.version) and _NAME.match(self.architecture))

    @property
    def plain_name(self) -> str:
        """The package in whichever version, as apt is asked for it."""
        return self.name if self.architecture == "all" else f"{self.name}:{self.architecture}"


class Apt:
    """apt, asked on behalf of one machine."""

    def __init__(self, machine: Machine, folder: HostPath) -> None:
        """Prepare to ask.

        Args:
            machine: a Debian root, or this host.
            folder: of ours; the lists and packages that are fetched lie there.
        """
        self._machine = machine
        self._folder = folder
        self._is_updated = False

    @staticmethod
    def is_here() -> bool:
        """Whether this host has apt."""
        return shutil.which("apt-get") is not None

    def fetch(self, wanted: WantedPackage) -> HostPath:
        """A package's file, checked by apt against the signed lists of the archive.

        Raises:
            UnreadableError: the archive does not have this version any more, or cannot be reached.
            UntrustedError: the archive's signature, or the package's digest, does not hold.
        """
        target = self._target_of(wanted)
        if os.path.exists(target):
            if is_as_fetched(HostPath(target)):
                return HostPath(target)
            os.unlink(target)
        os.makedirs(self._folder, exist_ok=True)
        if self._machine.is_live and not self._is_updated:
            with contextlib.suppress(UnreadableError):
                return self._download(wanted, target, self._lists())
        self._update()
        try:
            return self._download(wanted, target, None)
        except UnreadableError as error:
            raise self._with_version(wanted, error) from error

    def fetch_together(self, wanted: Sequence[WantedPackage]) -> None:
        """Fetch several packages at once, which is quicker; what does not come so is left to ``fetch``."""
        left = [each for each in wanted if not os.path.exists(self._target_of(each))]
        if len(left) < 2:  # noqa: PLR2004 - one alone is as quick by itself
            return
        os.makedirs(self._folder, exist_ok=True)
        try:
            if not self._machine.is_live:
                self._update()
            names = [f"{each.plain_name}={each.version}" for each in left]
            self._run(["download", *names], left[0].name, self._lists())
        except (UnreadableError, UntrustedError):
            for target in map(self._target_of, left):  # what came without proof must not be taken for fetched
                with contextlib.suppress(FileNotFoundError):
                    os.unlink(target)
            return
        for target in map(self._target_of, left):
            if os.path.exists(target):
                write_whole(f"{target}.sha256", digest_of_file(target).encode())

    def _target_of(self, wanted: WantedPackage) -> str:
        name = f"{wanted.name}_{wanted.version.replace(':', '%3a')}_{wanted.architecture}.deb"
        return os.path.join(self._folder, name)

    def resolve(self, names: Sequence[str]) -> tuple[WantedPackage, ...]:
        """The packages that would be new if some were installed, with all that they depend on; apt says which.

        Raises:
            UsageError: a name is none, or something that is installed would be upgraded or removed for it.
            UnreadableError: the archive has no such package, or cannot be reached.
            UntrustedError: the archive's proofs do not hold.
        """
        os.makedirs(self._folder, exist_ok=True)
        if odd := [
            name for name in names if not _NAME.match(name) or name.endswith("-")
        ]:  # which apt takes for: remove
            raise UsageError(
                what=say("sources.cannot-be-installed", odd=printable(odd[0])),
                why=say("sources.that-is-no-name-of-a"),
                do=say("sources.name-the-package-as-the-archive"),
            )
        what = " ".join(names)
        if not self._machine.is_live:
            self._update()
        said = self._run(["-s", "--no-install-recommends", "install", "--", *names], what, self._lists())
        wanted, others = [], []
        for line in said.splitlines():
            match = _SIMULATED.match(line)
            if match is None or match["what"] == "Conf":
                continue
            if match["what"] == "Inst" and not match["old"]:
                wanted.append(WantedPackage(match["name"].partition(":")[0], match["version"], match["architecture"]))
            else:
                others.append(match["name"])
        if others:
            raise UsageError(
                what=say("sources.is-not-installed-in-passing", what=what),
                why=say("sources.for-it-would-be-upgraded-or", others=", ".join(others[:5])),
                do=say("sources.look-at-it-with-the-machine", what=what),
            )
        return tuple(each for each in wanted if each.is_plain)

    def _update(self) -> None:
        if self._is_updated:
            return
        lists = self._own_lists()
        taken = take_over_lists(self._machine, lists) if not self._machine.is_live else []
        self._run(["update"], say("sources.the-lists-of-the-archive"), None)
        if drop_unproven(lists, taken):
            self._run(["update"], say("sources.the-lists-of-the-archive"), None)
        self._is_updated = True

    def _own_lists(self) -> HostPath:
        lists = HostPath(os.path.join(self._folder, "lists"))
        os.makedirs(os.path.join(lists, "partial"), exist_ok=True)
        return lists

    def _lists(self) -> MachinePath | None:
        """Only on this host are the lists known to be those whose signatures apt has checked."""
        return MachinePath("/var/lib/apt/lists") if self._machine.is_live else None

    def _download(self, wanted: WantedPackage, target: str, lists: MachinePath | None) -> HostPath:
        name = f"{wanted.plain_name}={wanted.version}"
        self._run(["download", name], f"{wanted.name} {wanted.version}", lists)
        if not os.path.exists(target):
            raise UnreadableError(
                what=say("sources.the-package-cannot-be-fetched", name=wanted.name, version=wanted.version),
                why=say("sources.apt-did-not-leave-it-where"),
                do=say("sources.try-it-by-hand-apt-get", name=name),
            )
        write_whole(f"{target}.sha256", digest_of_file(target).encode())
        return HostPath(target)

    def _with_version(self, wanted: WantedPackage, error: UnreadableError) -> UnreadableError:
        """The note where the archive has a newer version, which is no repair but an upgrade."""
        try:
            asked = run_tool(["apt-cache", *self._options(None), "policy", wanted.plain_name], _SECONDS, self._folder)
        except OSError:
            return error
        candidate = _CANDIDATE.search(asked.stdout)
        if candidate is None or compare(candidate["version"], wanted.version) <= 0:
            return error
        return UnreadableError(
            what=error.what,
            why=say("sources.the-archive-has-version-now", version=candidate["version"]),
            do=say("sources.on-that-machine-with-its-administrator", name=wanted.name),
        )

    def _run(self, words: Sequence[str], what: str, lists: MachinePath | None) -> str:
        """Run apt, and give its output."""
        try:
            done = run_tool(["apt-get", "-q", "-y", *self._options(lists), *words], _SECONDS, self._folder)
        except OSError as error:
            raise self._unreadable(what, error.strerror or str(error)) from error
        reasons = [line[3:] for line in done.stderr.splitlines() if line.startswith(("E: ", "W: "))]
        if any(sign in done.stderr for sign in _UNPROVEN):
            raise UntrustedError(
                what=say("sources.debian-archive-is-refused-for", what=printable(what)),
                why=next(line for line in reasons if any(sign in line for sign in _UNPROVEN)),
                do=say("sources.see-that-the-machine-keys-of"),
            )
        if done.returncode:
            raise self._unreadable(
                what, "; ".join(reasons[:2]) or say("sources.apt-get-ended-with-status", returncode=done.returncode)
            )
        return done.stdout

    def _unreadable(self, what: str, why: str) -> UnreadableError:
        return UnreadableError(
            what=say("sources.debian-archive-does-not-give", what=printable(what)),
            why=why,
            do=say("sources.see-that-this-host-reaches-the"),
        )

    def _options(self, lists: MachinePath | None) -> list[str]:
        machine, ours = self._machine, self._folder
        etc = machine.host_path(MachinePath("/etc/apt"))
        settings = {
            "Dir::Etc::sourcelist": os.path.join(etc, "sources.list"),
            "Dir::Etc::sourceparts": os.path.join(etc, "sources.list.d"),
            "Dir::Etc::trusted": os.path.join(etc, "trusted.gpg"),
            "Dir::Etc::trustedparts": os.path.join(etc, "trusted.gpg.d"),
            "Dir::Etc::preferences": os.path.join(etc, "preferences"),
            "Dir::Etc::preferencesparts": os.path.join(etc, "preferences.d"),
            "Dir::State::status": machine.host_path(MachinePath("/var/lib/dpkg/status")),
            "Dir::State::lists": self._own_lists() if lists is None else machine.host_path(lists),
            "Dir::Cache": os.path.join(ours, "cache"),
            "Dir::Log": os.path.join(ours, "log"),
            "APT::Sandbox::User": "root",
            "APT::Get::AllowUnauthenticated": "false",
            "Acquire::AllowInsecureRepositories": "false",
            "Acquire::AllowWeakRepositories": "false",
            "Acquire::Languages": "none",
            **dict.fromkeys(_further_lists(), "false"),
        }
        native, *foreign = architectures(machine)
        options = [f"{name}={value}" for name, value in {**settings, "APT::Architecture": native}.items()]
        options += [f"APT::Architectures::={each}" for each in (native, *foreign)]
        return [word for option in options for word in ("-o", option)]


@cache
def _further_lists() -> tuple[str, ...]:
    """The settings by which this host's apt fetches more than the lists of packages, such as those of contents."""
    try:
        said = run_tool(["apt-config", "dump", "Acquire::IndexTargets::deb"], _SECONDS, "/").stdout
    except OSError:
        return ()
    targets = dict.fromkeys(_TARGET.findall(said))
    return tuple(f"Acquire::IndexTargets::deb::{name}::DefaultEnabled" for name in targets if name != "Packages")


def is_as_fetched(path: HostPath) -> bool:
    """Whether a package that apt has fetched and checked is still what it was then. Raises: OSError."""
    try:
        with open(f"{path}.sha256", encoding="ascii", errors="replace") as file:
            return file.read() == digest_of_file(path)
    except FileNotFoundError:
        return False


def architectures(machine: Machine) -> list[str]:
    """The architectures of a Debian machine's packages: its own first, then added ones.

    Raises:
        UnreadableError: its database does not say.
    """
    status = machine.content(MachinePath("/var/lib/dpkg/status"), 64 << 20)
    match = re.search(rb"^Package: dpkg\n(?:.+\n)*?Architecture: (\S+)\n", status, re.MULTILINE)
    if match is None:
        raise UnreadableError(
            what=say("sources.the-architecture-of-the-machine-packages"),
            why=say("sources.its-package-database-has-no-entry"),
            do=say("sources.see-whether-var-lib-dpkg-status"),
        )
    native = match[1].decode("ascii", "replace")
    try:
        added = machine.content(MachinePath("/var/lib/dpkg/arch"), 4096).decode("ascii", "replace").split()
    except UnreadableError:
        added = []
    return [native, *(each for each in added if each != native and _NAME.match(each))]
