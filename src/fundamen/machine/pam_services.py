"""Read which modules a service of PAM calls. Source: pam.conf(5), "The syntax of the configuration files"."""

from collections.abc import Iterator
from typing import NamedTuple

from fundamen.machine.links import is_gone
from fundamen.machine.machine import EntryKind, Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_SERVICES = MachinePath("/etc/pam.d")
_MOST_FILES, _MOST_BYTES = 50, 1 << 18


class PamService(NamedTuple):
    """The files and modules of a service of PAM."""

    modules: tuple[str, ...]  # as its files name them, those of the files that it includes among them
    missing: tuple[MachinePath, ...]  # files that it includes and that are not there


def modules_of(machine: Machine, service: str) -> tuple[str, ...]:
    """The modules that a service calls, as its files name them, those of the files that it includes among them."""
    return read_service(machine, service).modules


def read_service(machine: Machine, service: str) -> PamService:
    """The modules and the missing files of a service."""
    waiting, seen, found, missing = [service], set[str](), dict[str, None](), list[MachinePath]()
    while waiting and len(seen) < _MOST_FILES:
        name = waiting.pop(0)
        if name in seen or "/" in name or name in {"", ".", ".."}:
            continue
        seen.add(name)
        if name != service and is_gone(machine, machine.join(_SERVICES, name)):
            missing.append(machine.join(_SERVICES, name))
        for words in _lines(machine, machine.join(_SERVICES, name)):
            if words[0] == "@include":
                waiting += words[1:2]
            elif words[1:2] in (["include"], ["substack"]):
                waiting += words[2:3]
            elif (module := _module_in(words[1:])) is not None:
                found[module] = None
    return PamService(tuple(found), tuple(missing))


def _module_in(words: list[str]) -> str | None:
    """The module behind a control, which is a word or several in square brackets."""
    if words and words[0].startswith("["):
        while words and not words[0].endswith("]"):
            words = words[1:]
    return words[1] if len(words) > 1 else None


def _lines(machine: Machine, file: MachinePath) -> Iterator[list[str]]:
    if machine.look(file).kind is not EntryKind.FILE:
        return
    try:
        text = machine.content(file, _MOST_BYTES).decode("utf-8", "replace").replace("\\\n", " ")
    except UnreadableError:
        return
    for line in text.splitlines():
        if words := line.partition("#")[0].split():
            yield words
