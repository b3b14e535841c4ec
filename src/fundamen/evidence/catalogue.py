"""A signed catalogue as an authority: it knows every file of every package it lists by its SHA-256."""

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Mapping, Sequence

from fundamen.evidence.authority import Hashing, Says, Subject, Testimony
from fundamen.machine.machine import Machine
from fundamen.machine.stated_version import product_version_of
from fundamen.messages import say
from fundamen.model.package import Package, PackageFile
from fundamen.model.paths import MachinePath


class CatalogueAuthority:
    """Speaks about every file that has the name and architecture of one in the catalogue.

    It proves the bytes that it lists. Bytes that it does not list it calls altered only among sound files of the same
    package in the same folder, where the file does not itself state another version. Otherwise they may just as well
    belong to another build, and it says only that it does not know them (docs/decisions/0003).
    """

    def __init__(self, source: str, packages_with: Callable[[Iterable[str]], Sequence[Package]]) -> None:
        """Make the authority of one trusted source.

        Args:
            source: its name.
            packages_with: gives the packages that have a file of one of some names.
        """
        self._speaker = source
        self._packages_with = packages_with

    def testify(self, machine: Machine, subjects: Sequence[Subject]) -> dict[MachinePath, Testimony]:
        """Compare the files that the catalogue knows by name with the digests it lists."""
        vouched: dict[MachinePath, Package] = {}
        versions: dict[MachinePath, frozenset[str]] = {}  # in which versions of the package these very bytes are
        doubtful: dict[MachinePath, list[tuple[Package, PackageFile]]] = {}
        by_name = self._by_name(subjects)
        known = {s.path: listed for s in subjects if (listed := _listed_files(machine, s, by_name))}
        for path, digest in Hashing(machine, known, "sha256").result().items():
            match = next((package for package, file in known[path] if file.sha256 == digest), None)
            if match is not None:
                vouched[path] = match
                versions[path] = frozenset(
                    package.version
                    for package, file in known[path]
                    if file.sha256 == digest and package.name == match.name
                )
            else:
                doubtful[path] = known[path]
        strays = _strays(machine, vouched, versions)
        testimonies = {path: self._vouch_for(package, strays.get(path, "")) for path, package in vouched.items()}
        for path, listed in doubtful.items():
            testimonies[path] = self._cast_doubt(machine, path, listed, vouched)
        return testimonies

    def _by_name(self, subjects: Sequence[Subject]) -> dict[str, list[tuple[Package, PackageFile]]]:
        """The files of all packages that may matter, by each of their names."""
        found: dict[str, list[tuple[Package, PackageFile]]] = defaultdict(list)
        for package in self._packages_with({name for subject in subjects for name in _names_of(subject)}):
            for file in package.files:
                for name in {file.name.lower(), file.place.rpartition("/")[2].lower()}:
                    found[name].append((package, file))
        return found

    def _vouch_for(self, package: Package, most_are_from: str) -> Testimony:
        title = say("evidence.package-and-version", name=package.name, version=package.version)
        if most_are_from:
            title = say("evidence.versions-are-mixed-most-of-its", title=title, most_are_from=most_are_from)
        if package.withdrawn is None:
            return Testimony(self._speaker, Says.RIGHT, title)
        withdrawal = say("evidence.was-withdrawn-from", title=title, speaker=self._speaker, withdrawn=package.withdrawn)
        if package.is_untrusted:
            return Testimony(self._speaker, Says.UNTRUSTED, withdrawal)
        return Testimony(self._speaker, Says.RIGHT, title, remark=withdrawal)

    def _cast_doubt(
        self,
        machine: Machine,
        path: MachinePath,
        listed: list[tuple[Package, PackageFile]],
        vouched: Mapping[MachinePath, Package],
    ) -> Testimony:
        folder = machine.fold(machine.folder_of(path))
        packages = {package for package, _ in listed}
        for companion, package in vouched.items():
            is_beside = package in packages and machine.fold(machine.folder_of(companion)) == folder
            if is_beside and _states_the_same(machine, path, companion):
                detail = say("evidence.lies-among-verified-files-of-but", name=package.name, version=package.version)
                return Testimony(self._speaker, Says.WRONG, detail)
        versions = ", ".join(dict.fromkeys(f"{package.name} {package.version}" for package, _ in listed))
        return Testimony(
            self._speaker, Says.UNKNOWN, say("evidence.has-other-bytes-than-in-perhaps", versions=versions)
        )


def _states_the_same(machine: Machine, path: MachinePath, companion: MachinePath) -> bool:
    """Whether a file states the version that its companion states, or one of them states none."""
    stated = {product_version_of(machine, each) for each in (path, companion)} - {""}
    return len(stated) < 2  # noqa: PLR2004


def _strays(
    machine: Machine, vouched: Mapping[MachinePath, Package], versions: Mapping[MachinePath, frozenset[str]]
) -> dict[MachinePath, str]:
    """Files of a package in a folder that are from another version than most beside them -> that version."""
    together: dict[tuple[str, str], list[MachinePath]] = defaultdict(list)
    for path, package in vouched.items():
        together[package.name, machine.fold(machine.folder_of(path))].append(path)
    strays: dict[MachinePath, str] = {}
    for paths in together.values():
        counts = Counter(version for path in paths for version in versions[path])
        most, count = counts.most_common(1)[0]
        if count < len(paths):  # no version has all of them
            strays |= {path: most for path in paths if most not in versions[path]}
    return strays


def _listed_files(
    machine: Machine, subject: Subject, by_name: Mapping[str, Sequence[tuple[Package, PackageFile]]]
) -> list[tuple[Package, PackageFile]]:
    found = (each for name in _names_of(subject) for each in by_name.get(name, ()))
    return [
        (package, file)
        for package, file in dict.fromkeys(found)
        if package.platform.serves(machine.platform) and package.architecture.serves(subject.architecture)
    ]


def _names_of(subject: Subject) -> tuple[str, ...]:
    """Names of a file in a catalogue: its own name, which damage can change, and the name of its path."""
    return tuple(dict.fromkeys((subject.name.lower(), subject.path.replace("\\", "/").rpartition("/")[2].lower())))
