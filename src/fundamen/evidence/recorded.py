"""Files that were compared with their packages' records already, as an authority: nothing is read a second time."""

from collections.abc import Mapping, Sequence
from functools import cached_property

from fundamen.evidence.authority import Says, Subject, Testimony
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.paths import MachinePath

_SPEAKER = "dpkg"


class RecordedAuthority:
    """Speaks about every file of which it was found out whether it is as its package brought it."""

    def __init__(self, owned: Sequence[tuple[str, bytes]], altered: Mapping[MachinePath, str]) -> None:
        """Make it of what was found.

        Args:
            owned: packages, each with some of its files that were compared: their paths, a line each.
            altered: of those that are not as brought: what is the matter, in words.
        """
        self._owned = owned
        self._altered = altered

    @cached_property
    def _owners(self) -> dict[str, str]:
        return {
            path: package
            for package, paths in self._owned
            for path in paths.decode("utf-8", "surrogateescape").split("\n")
        }

    def testify(self, machine: Machine, subjects: Sequence[Subject]) -> dict[MachinePath, Testimony]:
        """Say what was found of each."""
        found = {}
        for subject in subjects:
            real = machine.real(subject.path)
            merged = real.removeprefix("/usr") if real.startswith("/usr/") else f"/usr{real}"
            for spelled in (real, merged):
                package = self._owners.get(spelled)
                if package is None:
                    continue
                wrong = self._altered.get(MachinePath(spelled))
                says = Says.RIGHT if wrong is None else Says.WRONG
                detail = (
                    say("evidence.package", title=package)
                    if wrong is None
                    else say("evidence.differs-from-package", package=package, wrong=wrong)
                )
                found[subject.path] = Testimony(_SPEAKER, says, detail, is_owner=True)
                break
        return found
