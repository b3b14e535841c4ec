"""Offer the files of a clean machine that was recorded as a reference.

A baseline knows files and not whose package they are: each is offered by itself, at the place where the clean machine
has it, and only while it is what was recorded.
"""

import os
from collections.abc import Iterable, Iterator
from datetime import datetime, timedelta

from fundamen.formats.binary import read_binary
from fundamen.machine.file_bytes import FileBytes
from fundamen.messages import say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.package import Base, Package, PackageFile
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.own_files import copy_whole, remove_own
from fundamen.sources.catalogue import Catalogue, ListedCatalogue, Source, SourceKind
from fundamen.sources.reference import Baseline, Recorded

_LIFE = timedelta(days=1)


class ReferenceOffers:
    """The clean machines that were recorded, asked for files by name."""

    def __init__(self, baselines: Iterable[Baseline], platform: Platform, home: HostPath, now: datetime) -> None:
        """Prepare to ask.

        Args:
            baselines: those of machines count, and of these the ones for the platform.
            platform: of the machine that has the need.
            home: the folder of our own state.
            now: this moment.
        """
        self._baselines = [each for each in baselines if each.platform is platform]
        self._contents = os.path.join(home, "content")
        self._now = now

    def catalogue_of(
        self, names: Iterable[str], _paths: Iterable[MachinePath] = (), _architecture: Architecture | None = None
    ) -> Catalogue | None:
        """The files of some names that are as they were recorded, each as a package; None where there is none.

        Raises:
            UnreadableError: our own copy cannot be written.
        """
        wanted = {name.lower() for name in names}
        packages = tuple(
            package
            for baseline in self._baselines
            for path, recorded in baseline.entries.items()
            if path.rpartition("/")[2].lower() in wanted and recorded.sha256
            for package in self._packages(baseline, path, recorded)
        )
        source = Source("the references", "", "", self._now, kind=SourceKind.REFERENCE)
        return ListedCatalogue(source, packages, self._now + _LIFE) if packages else None

    def _packages(self, baseline: Baseline, path: str, recorded: Recorded) -> Iterator[Package]:
        """The file as a package; nothing where it is no longer what was recorded, or no program and no library."""
        origin = os.path.join(baseline.location, *path.split("/"))
        kept = os.path.join(self._contents, recorded.sha256)
        try:
            if not os.path.exists(kept) and copy_whole(origin, kept, recorded.size + 1) != recorded.sha256:
                remove_own(kept)
                return
            with FileBytes(HostPath(kept), path) as source:
                binary = read_binary(source)
        except (OSError, UnreadableError):
            return
        name = path.rpartition("/")[2]
        assert baseline.platform is not None  # noqa: S101 - only those of machines are asked
        yield Package(
            publisher=say("sources.the-reference", name=baseline.name),
            name=name,
            version=f"{baseline.recorded_at:%Y.%m.%d}",
            platform=baseline.platform,
            architecture=binary.architecture,
            files=(
                PackageFile(
                    name=binary.name or name,
                    base=Base.ROOT,
                    place=path,
                    size=recorded.size,
                    sha256=recorded.sha256,
                    executable=bool(recorded.mode & 0o111),
                    mode=recorded.mode,
                ),
            ),
            proven_by=say("sources.the-baseline-of-recorded-on", name=baseline.name, recorded_at=baseline.recorded_at),
        )
