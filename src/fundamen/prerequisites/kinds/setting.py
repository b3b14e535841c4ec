"""A value in a settings file, or that it is not there."""

import msgspec

from fundamen.formats.settings.editing import find_value, format_of
from fundamen.formats.settings.setting import SettingFormat
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, join_clauses, say
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, unknown
from fundamen.prerequisites.comparison import Compared
from fundamen.prerequisites.requirement import MOST_BYTES, CheckContext, Name, Path


class Setting(Compared, frozen=True, kw_only=True, tag="setting"):
    """A setting has a value; one that no line sets has its program's own default, if the sheet tells that."""

    file: Path
    key: tuple[Name, ...]
    format: SettingFormat | None = None  # where the file's name does not tell it
    default: str | int | float | bool | None = None  # what counts where the file does not set it

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        return say("prerequisites.the-setting-in", key=".".join(self.key), file=self.file, words=self.in_words)

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.change-in-keep-the-old-file", key=".".join(self.key), file=self.file)

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        if (self.format or format_of(self.file)) is None:
            return say("prerequisites.the-file-name-does-not-tell")
        return super().problem() or (UNSAID if self.key else say("prerequisites.the-key-is-empty"))

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        path = MachinePath(self.file)
        form = self.format or format_of(self.file)
        if form is None:
            return unknown(say("prerequisites.the-format-of-the-file-is"))
        default = msgspec.UNSET if self.default is None else self.default
        if asked.machine.look(path).kind is EntryKind.ABSENT:
            answer = self.judge(default)
            absent = say("prerequisites.there-is-no-such-file")
            found = absent if self.default is None else join_clauses(absent, answer.found)
            return msgspec.structs.replace(answer, found=found)
        data = asked.machine.fact(path, _content)
        value = find_value(data, form, self.key, self.file)
        return self.judge(default if value is None else value.value)


def _content(machine: Machine, path: MachinePath) -> bytes:
    return machine.content(path, MOST_BYTES)
