"""How musl's loader finds the shared libraries of a Linux program.

Source: musl's ldso/dynlink.c (load_library, path_open, fixup_rpath). It keeps no cache, knows no symbol versions, and
lets RPATH and RUNPATH alike hold for the libraries of libraries.
"""

import re
from collections.abc import Iterator, Sequence

from fundamen.formats.unix.elf import Elf
from fundamen.loaders.elf_loading import ElfLoading, LoadedObject, words_of
from fundamen.loaders.load_map import Candidate, CandidateOutcome, LoadMap
from fundamen.machine.machine import Machine
from fundamen.messages import Message, say
from fundamen.model.binary import Need
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_INTERPRETER = re.compile(r"/ld-musl-([\w.-]+)\.so\.1$")
_ITSELF = re.compile(r"lib(?:c|pthread|rt|m|dl|util|xnet)\.")  # all of these are the loader's own file
_DEFAULT = "/lib:/usr/local/lib:/usr/lib"
_ORIGIN = re.compile(r"\$(?:ORIGIN|\{ORIGIN\})")
_MOST_BYTES = 1 << 16


def load_map(machine: Machine, program: MachinePath, elf: Elf, also: Sequence[str] = ()) -> LoadMap:
    """Do for a program what the loader would do, without running anything."""
    return _Loading(machine, program, elf).run(also)


class _Loading(ElfLoading):
    def _preloaded_names(self) -> list[str]:
        return words_of(self._machine.environment.get("LD_PRELOAD", ""))

    def _find_known(self, name: str) -> MachinePath | None:
        return self._interpreter if _ITSELF.match(name) else self._by_name.get(name)

    def _names_of(self, elf: Elf) -> list[str]:  # noqa: ARG002 - a file's own name does not count here
        return []

    def _needs_of(self, elf: Elf) -> tuple[Need, ...]:
        return elf.needs  # filters are nothing to it

    def _preloader(self) -> LoadedObject:
        return LoadedObject(self._program.path, self._elf, self._program.stands_at, None, has_no_path=True)

    def _places(self, name: str, requester: LoadedObject) -> Iterator[tuple[MachinePath, Message]]:
        if "/" in name:
            yield self._machine.join("/", name), say("loaders.the-name-is-a-path")
            return
        for folder in _folders(self._machine.environment.get("LD_LIBRARY_PATH", "")):
            yield self._machine.join(folder, name), say("loaders.library-path-variable")
        holder: LoadedObject | None = requester
        while holder is not None and not holder.has_no_path:
            tag = "RUNPATH" if holder.elf.runpath is not None else "RPATH"
            for folder in _folders(self._run_path(holder)):
                yield (
                    MachinePath(f"{self._tidy(folder)}/{name}"),
                    say("loaders.of-tag-basename", tag=tag, file=self._machine.paths.basename(holder.path)),
                )
            holder = holder.loaded_by
        configured = self._read_configured_path()
        because = say("loaders.default-folder") if configured is None else say("loaders.the-loader-own-list-of-folders")
        for folder in _folders(_DEFAULT if configured is None else configured):
            yield self._machine.join(folder, name), because

    def _run_path(self, holder: LoadedObject) -> str:
        """The search path that a file brings, which is left out as a whole where it has any other token than ORIGIN."""
        path = holder.elf.runpath if holder.elf.runpath is not None else holder.elf.rpath or ""
        expanded = _ORIGIN.sub(lambda _: holder.origin, path)
        return "" if "$" in expanded.replace(holder.origin, "") else expanded

    def _read_configured_path(self) -> str | None:
        """The folders that the system's administrator has listed for this loader; None where there is no list."""
        found = _INTERPRETER.search(self._interpreter or "")
        if found is None:
            return None
        try:
            data = self._machine.content(MachinePath(f"/etc/ld-musl-{found[1]}.path"), _MOST_BYTES)
        except UnreadableError:
            return None
        return data.decode("utf-8", "surrogateescape")

    def _judge_candidate(self, path: MachinePath, because: Message, elf: Elf) -> Candidate:
        """The first file of the name is taken, or ends the search: nothing is passed over."""
        if not self._is_of_our_kind(elf):
            return Candidate(
                path,
                CandidateOutcome.REFUSED,
                because,
                say("loaders.is-for", architecture=elf.architecture),
                elf.architecture,
            )
        return self._map_file(path, because, elf)


def _folders(path: str) -> list[str]:
    """The absolute folders of a search path; relative ones depend on where the program is started."""
    return [folder for folder in re.split("[:\n]", path) if folder.startswith("/")]
