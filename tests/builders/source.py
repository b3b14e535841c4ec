"""Build signed sources in a temporary folder."""

from datetime import UTC, datetime, timedelta
from pathlib import Path

from fundamen.model.paths import HostPath
from fundamen.sources.catalogue import Catalogue
from fundamen.sources.publishing import PublishedIdentity, Signing, publish
from fundamen.sources.repository import Repository
from fundamen.sources.store import SourceStore

NOW = datetime.now(UTC)


class ASource:
    """A packager's source with its keys, and the technician's store of trusted sources."""

    def __init__(self, folder: Path, home: Path) -> None:
        self.folder = folder / "source"
        self.media = folder / "media"
        self.keys = folder / "keys"
        self.store = SourceStore(HostPath(str(home)))
        self.fingerprint = ""

    def published(
        self,
        files: dict[str, bytes],
        version: str = "1.0",
        place: str = "{program}/../lib",
        days: float = 30,
        package: str = "Saltgrass",
    ) -> "ASource":
        """Publish files as a package."""
        media = self.media / package / str(len(list(self.media.glob("*/*"))))
        media.mkdir(parents=True)
        for name, data in files.items():
            (media / name).write_bytes(data)
        identity = PublishedIdentity("Ardvane Instruments", package, version, vouched="they are of this test")
        signing = Signing((HostPath(str(self.keys)),), NOW + timedelta(days=days))
        locations = HostPath(str(self.folder)), HostPath(str(media))
        self.fingerprint = publish(*locations, identity, place, signing).fingerprint
        return self

    def trusted(self, *places: str, authority: str = "") -> Catalogue:
        """Trust the source, where it lies or at other places, and give what it proved."""
        location, *mirrors = places or (str(self.folder),)
        return self.store.trust(location, self.fingerprint, "it", NOW, mirrors, authority)

    def with_new_key(self, role: str) -> "ASource":
        """Replace the key of a role by a new one, as a root of the next version says."""
        Repository(HostPath(str(self.folder)), (HostPath(str(self.keys)),), NOW + timedelta(days=30)).rotate(role)
        return self
