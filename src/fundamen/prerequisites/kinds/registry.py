"""A value of the registry."""

import msgspec

from fundamen.formats.settings.setting import Plain
from fundamen.model.architecture import Platform
from fundamen.prerequisites.answer import Answer, unknown
from fundamen.prerequisites.comparison import Compared
from fundamen.prerequisites.requirement import CheckContext, Path, Text


class RegistryValue(Compared, frozen=True, kw_only=True, tag="registry value"):
    r"""A value below a key such as HKLM\Software\Tide; the unnamed one, where no name is given."""

    key: Path
    name: Text = ""

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        return rf"the registry's {self.key}\{self.name or '(unnamed)'} {self.in_words}"

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        if asked.machine.platform is not Platform.WINDOWS:
            return unknown(f"{asked.machine.title} has no registry")
        if not asked.machine.registry.knows(self.key):
            why = "; ".join(asked.machine.registry.gaps) or "its hive is not available"
            return unknown(f"{self.key} cannot be looked up: {why}")
        return self.judge(_plain(asked.machine.registry.value(self.key, self.name)))


def _plain(value: str | int | bytes | tuple[str, ...] | None) -> Plain | msgspec.UnsetType:
    if value is None:
        return msgspec.UNSET
    if isinstance(value, bytes):
        return value.hex()
    return ",".join(value) if isinstance(value, tuple | list) else value
