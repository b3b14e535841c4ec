"""A value of the registry."""

import msgspec

from fundamen.formats.settings.setting import Plain
from fundamen.messages import Message, say
from fundamen.model.architecture import Platform
from fundamen.prerequisites.answer import Answer, unknown
from fundamen.prerequisites.comparison import Compared
from fundamen.prerequisites.requirement import CheckContext, Path, Text


class RegistryValue(Compared, frozen=True, kw_only=True, tag="registry value"):
    r"""A value below a key such as HKLM\Software\Tide; the unnamed one, where no name is given."""

    key: Path
    name: Text = ""

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        return say("prerequisites.the-registry", key=self.key, name=self.name or "(unnamed)", words=self.in_words)

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        if asked.machine.platform is not Platform.WINDOWS:
            return unknown(say("prerequisites.has-no-registry", title=asked.machine.title))
        if not asked.machine.registry.knows(self.key):
            why = "; ".join(asked.machine.registry.gaps) or say("prerequisites.its-hive-is-not-available")
            return unknown(say("prerequisites.cannot-be-looked-up", key=self.key, why=why))
        return self.judge(_plain(asked.machine.registry.value(self.key, self.name)))


def _plain(value: str | int | bytes | tuple[str, ...] | None) -> Plain | msgspec.UnsetType:
    if value is None:
        return msgspec.UNSET
    if isinstance(value, bytes):
        return value.hex()
    return ",".join(value) if isinstance(value, tuple | list) else value
