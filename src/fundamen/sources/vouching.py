"""Who vouches for files by their names and digests, and what there is of a project: trusted sources and references."""

import hashlib
import os
from collections.abc import Callable, Iterator
from datetime import datetime
from functools import partial

from fundamen.messages import say
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath
from fundamen.sources.artefacts import ArtefactName, normalise, pattern_of, read_artefact_name
from fundamen.sources.reference import References
from fundamen.sources.store import SourceStore

_LISTED = "sha256"  # the digest that sources and references list
_PIECE = 1 << 20  # bytes


class Vouchers:
    """The trusted sources whose proofs hold, and the references that were recorded."""

    def __init__(self, home: HostPath, now: datetime) -> None:
        """Open them.

        Args:
            home: the folder of our own state.
            now: this moment.

        Raises:
            UnreadableError: what is kept of them is damaged.
        """
        self._store = SourceStore(home)
        self._catalogues = [each for each in self._store.catalogues() if each.expires_at > now]
        self._baselines = References(home).all()

    def vouch(self, name: str, algorithm: str, digest: str) -> str:
        """The sources that know a file of some name with a digest; empty for none.

        Sources list SHA-256; where another digest is asked for, it is taken from the bytes that they vouch for.
        """
        for who, sha256, bring in self._files(name):
            if sha256 == digest if algorithm == _LISTED else _has(bring, sha256, algorithm, digest):
                return who
        return ""

    def all_offered(self, project: str) -> tuple[ArtefactName, ...]:
        """All files of a project that a trusted source has and has not withdrawn."""
        packages = (p for each in self._catalogues for p in each.packages_with([pattern_of(project)]))
        named = (read_artefact_name(f.name) for p in packages if p.withdrawn is None for f in p.files)
        return tuple(each for each in named if each is not None and each.project == normalise(project))

    def _files(self, name: str) -> Iterator[tuple[str, str, Callable[[], HostPath]]]:
        """(who vouches, SHA-256, what brings the bytes) of each file of some name."""
        for catalogue in self._catalogues:
            for package in catalogue.packages_with([name]):
                for file in package.files if package.withdrawn is None else ():
                    if file.answers_to(name):
                        fetch = partial(self._store.fetch, catalogue.source, file)
                        yield say("sources.the-source", name=catalogue.source.name), file.sha256, fetch
        for baseline in self._baselines:
            for path, entry in baseline.entries.items():
                if path.rpartition("/")[2] == name and entry.sha256:
                    place = HostPath(os.path.join(baseline.location, *path.split("/")))
                    yield say("sources.the-reference", name=baseline.name), entry.sha256, partial(HostPath, place)


def _has(bring: Callable[[], HostPath], sha256: str, algorithm: str, digest: str) -> bool:
    """Whether the proven bytes have another digest; not where they are not available."""
    listed, asked = hashlib.new(_LISTED), hashlib.new(algorithm, usedforsecurity=False)
    try:
        with open(bring(), "rb") as file:
            while piece := file.read(_PIECE):
                listed.update(piece)
                asked.update(piece)
    except (OSError, UnreadableError):
        return False
    return (listed.hexdigest(), asked.hexdigest()) == (sha256, digest)
