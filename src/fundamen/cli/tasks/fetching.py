"""Fetch a file of a source, with progress for a person at a terminal."""

from fundamen.cli.output import Output
from fundamen.model.package import PackageFile
from fundamen.model.paths import HostPath
from fundamen.restore.rehearsal import Fetch
from fundamen.sources.catalogue import Source
from fundamen.sources.store import SourceStore


def fetcher(store: SourceStore, output: Output) -> Fetch:
    """Fetch from a store of sources, and show how far it is."""

    def fetch(source: Source, file: PackageFile) -> HostPath:
        with output.receive_bar(file.size, file.name) as received:
            return store.fetch(source, file, received)

    return fetch
