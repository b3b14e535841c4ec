"""A setting of the running kernel, or of what will be set when the machine starts."""

import msgspec

from fundamen.formats.settings.editing import find_value
from fundamen.formats.settings.setting import SettingFormat
from fundamen.machine.kernel_settings import running_value
from fundamen.machine.machine import Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, unknown, unmet
from fundamen.prerequisites.comparison import Compared
from fundamen.prerequisites.requirement import MOST_BYTES, CheckContext, Name

# Source: sysctl.d(5), "Configuration Directories and Precedence": of files of one name the first counts.
_FOLDERS = ("/etc/sysctl.d", "/run/sysctl.d", "/usr/local/lib/sysctl.d", "/usr/lib/sysctl.d", "/lib/sysctl.d")
_LAST = "/etc/sysctl.conf"


class KernelSetting(Compared, frozen=True, kw_only=True, tag="kernel setting"):
    """A setting such as kernel.sem, or one field of it, counted from 0. Source: proc_sys(5), sysctl(8)."""

    name: Name
    field: int | None = None

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        of = say("prerequisites.field-of", field=self.field) if self.field is not None else UNSAID
        return say("prerequisites.the-kernel", of=of, name=self.name, words=self.in_words)

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.set-it-now-sysctl-w-and", name=self.name)

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        parts = self.name.replace("/", ".").split(".")
        if len(parts) < 2 or not all(parts):  # noqa: PLR2004 - a group and a name
            return say("prerequisites.is-no-name-such-as-kernel", name=self.name)
        return super().problem()

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        machine = asked.machine
        text = running_value(self.name) if machine.is_live else _read_configured(machine, self.name)
        if text is None:
            if machine.is_live:
                return unmet(say("prerequisites.this-kernel-has-no-such-setting"))
            return unknown(say("prerequisites.no-file-sets-it-the-kernel"))
        value = " ".join(text.split())
        if self.field is None:
            return self.judge(value)
        fields = value.split()
        return self.judge(fields[self.field]) if 0 <= self.field < len(fields) else self.judge(msgspec.UNSET)


def _read_configured(machine: Machine, name: str) -> str | None:
    """The values that the files of a stopped machine would set."""
    files: dict[str, MachinePath] = {}
    for folder in reversed(_FOLDERS):
        for each in machine.names(MachinePath(folder)):
            if each.endswith(".conf"):
                files[each] = machine.join(folder, each)
    found = None
    for path in (*(files[each] for each in sorted(files)), MachinePath(_LAST)):
        try:
            value = find_value(machine.content(path, MOST_BYTES), SettingFormat.SYSCTL, (name,), path)
        except UnreadableError:
            continue
        found = str(value.value) if value is not None else found
    return found
