"""A command on PATH: which is found first, and how many there are."""

from fundamen.machine.machine import EntryKind
from fundamen.machine.programs import places_on_path
from fundamen.messages import UNSAID, Message, say
from fundamen.prerequisites.answer import Answer, met, unmet
from fundamen.prerequisites.requirement import CheckContext, Name, Path, Requirement


class Tool(Requirement, frozen=True, kw_only=True, tag="tool"):
    """A command is found by PATH, perhaps in this folder, perhaps as the only one of its name."""

    name: Name
    folder: Path | None = None  # that it must be found in first
    only_one: bool = False

    @property
    def needed(self) -> Message:
        """Name the need in a few words."""
        where = say("prerequisites.in-folder", folder=self.folder) if self.folder else UNSAID
        return say(
            "prerequisites.command-on-path", more="exactly one" if self.only_one else "the", name=self.name, where=where
        )

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        if self.folder:
            return say("prerequisites.put-first-on-path-once-and", folder=self.folder)
        return say("prerequisites.install-what-brings-or-add-its", name=self.name)

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine. A place that leads to the same file as one before it does not count again."""
        machine = asked.machine
        found = [
            path
            for path, entry in places_on_path(machine, self.name)
            if entry.kind is EntryKind.FILE and entry.is_executable
        ]
        if not found:
            return unmet(say("prerequisites.no-folder-of-path-has-it"))
        files = {machine.real(path): path for path in reversed(found)}
        first = say("prerequisites.it-is-found-as", found=found[0])
        if self.folder is not None and machine.real(machine.folder_of(found[0])) != machine.real(
            machine.join(self.folder)
        ):
            return unmet(first)
        if self.only_one and len(files) > 1:
            others = ", ".join(sorted(path for path in files.values() if path != found[0]))
            return unmet(say("prerequisites.and-also-as", first=first, others=others))
        return met(first)
