"""A language's interpreter in a version, with modules that are there and switched on."""

import re
import subprocess
from collections.abc import Iterator
from typing import ClassVar, Literal

import msgspec

from fundamen.formats.settings.editing import find_value
from fundamen.formats.settings.setting import SettingFormat
from fundamen.formats.versions import is_in, problem_of_range
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import Message, join_clauses, say
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.answer import Answer, met, unknown, unmet
from fundamen.prerequisites.requirement import MOST_BYTES, CheckContext, Name, Path, Requirement, Text

_MOST_IMAGE = 128 << 20  # bytes of an interpreter
_SECONDS = 10.0
# What the image of PHP's interpreter says of itself: main/main.c, SAPI headers; main/build-defs.h.
_VERSION = re.compile(rb"X-Powered-By: PHP/(\d+\.\d+\.\d+)")
_SCANNED = re.compile(rb"\0(/[\x21-\x7e]{1,200}/conf\.d)\0")
_MODULES = re.compile(rb"\0(/[\x21-\x7e]{1,200}/(?:no-debug-(?:non-)?zts-)?20\d{6}(?:-zts)?)\0")
_LINE = re.compile(
    r"^\s*(?:zend_)?extension\s*=\s*\"?(?:\S*/)?(?:php_)?([\w-]+?)(?:\.so|\.dll)?\"?\s*(?:;.*)?$", re.MULTILINE
)
# No build is without these. Source: the PHP manual, "Extension List/Categorization", core extensions.
_ALWAYS = frozenset({"core", "date", "hash", "json", "pcre", "random", "reflection", "spl", "standard"})


class _Php(msgspec.Struct, frozen=True):
    """How an interpreter of PHP was built."""

    version: str
    settings: str  # its folder of settings; empty where it does not say
    modules: str  # its folder of modules


class LanguageRuntime(Requirement, frozen=True, kw_only=True, tag="language runtime"):
    """An interpreter is there in a version, and has modules: one that is switched off is reported as such."""

    language: Literal["php"]
    interpreter: Path
    version: Text = ""  # a range
    modules: tuple[Name, ...] = ()
    settings: Path | None = None  # the folder with its php.ini and conf.d, of the server that runs it

    waits: ClassVar[bool] = True

    @property
    def needed(self) -> str:
        """Name the need in a few words."""
        with_ = say("prerequisites.with", modules=", ".join(self.modules)) if self.modules else ""
        return f"{self.interpreter}{f' {self.version}' if self.version else ''}{with_}"

    @property
    def advice(self) -> Message:
        """Advise where it is unmet and the sheet gives no advice."""
        return say("prerequisites.install-the-module-package-or-switch")

    def problem(self) -> Message:
        """Find the fault of its fields, beyond their types."""
        return problem_of_range(self.version)

    def check(self, asked: CheckContext) -> Answer:
        """Check it on the machine."""
        machine = asked.machine
        if machine.look(MachinePath(self.interpreter)).kind is EntryKind.ABSENT:
            return unmet(say("prerequisites.there-is-no-such-file"))
        built = _read_build(machine, machine.real(MachinePath(self.interpreter)))
        if built is None:
            return unknown(say("prerequisites.it-does-not-say-that-it"))
        if self.version and not is_in(built.version, self.version):
            return unmet(say("prerequisites.it-is", value=built.version))
        return self._modules(asked, built)

    def _modules(self, asked: CheckContext, built: _Php) -> Answer:
        folder = self.settings or built.settings
        on = {name.lower() for name in _switched_on(asked.machine, folder)}
        present = _present(asked.machine, _module_folder(asked.machine, folder) or built.modules)
        wrong, untold = [], []
        for name in self.modules:
            key = name.lower()
            if key in _ALWAYS or (key in on and key in present):
                continue
            if key in on:
                wrong.append(say("prerequisites.is-switched-on-and-its-file", name=name))
            elif key in present:
                wrong.append(say("prerequisites.is-installed-and-switched-off", name=name))
            else:
                untold.append(name)
        if untold and asked.may_run and asked.machine.is_live:
            compiled_in = _compiled_in(self.interpreter)
            wrong += [
                say("prerequisites.is-not-there-name", name=name) for name in untold if name.lower() not in compiled_in
            ]
            untold = []
        if wrong:
            return unmet(join_clauses(*wrong))
        if untold:
            names = ", ".join(untold)
            return unknown(say("prerequisites.no-file-of-it-is-there", names=names))
        return met(say("prerequisites.it-is", value=built.version))


def _read_build(machine: Machine, path: MachinePath) -> _Php | None:
    image = machine.content(path, _MOST_IMAGE)
    version = _VERSION.search(image)
    if version is None:
        return None
    scanned, modules = _SCANNED.search(image), _MODULES.search(image)
    return _Php(
        version=version[1].decode(),
        settings=scanned[1].decode().removesuffix("/conf.d") if scanned else "",
        modules=modules[1].decode() if modules else "",
    )


def _texts(machine: Machine, folder: str) -> Iterator[str]:
    """The settings files in the order in which they are read. Source: the PHP manual, "The configuration file"."""
    if not folder:
        return
    scanned = machine.join(folder, "conf.d")
    paths = [machine.join(folder, "php.ini")]
    paths += [machine.join(scanned, name) for name in machine.names(scanned) if name.endswith(".ini")]
    for path in paths:
        try:
            yield machine.content(path, MOST_BYTES).decode("utf-8", "replace")
        except UnreadableError:
            continue


def _switched_on(machine: Machine, folder: str) -> Iterator[str]:
    for text in _texts(machine, folder):
        yield from _LINE.findall(text)


def _module_folder(machine: Machine, folder: str) -> str:
    """The folder of modules that the settings name; empty where they name none."""
    found = ""
    for text in _texts(machine, folder):
        value = find_value(
            text.encode(), SettingFormat.PROPERTIES, ("extension_dir",), say("prerequisites.the-settings-of-php")
        )
        found = str(value.value).strip('"') if value is not None else found
    return found


def _present(machine: Machine, folder: str) -> set[str]:
    names = machine.names(MachinePath(folder)) if folder else ()
    return {name.removeprefix("php_").rpartition(".")[0].lower() for name in names if name.endswith((".so", ".dll"))}


def _compiled_in(interpreter: str) -> set[str]:
    """The built-in modules, listed by the interpreter. Raises: OSError: it cannot be run, or does not end."""
    asked = [interpreter, "-m"]
    try:
        done = subprocess.run(
            asked, stdin=subprocess.DEVNULL, capture_output=True, text=True, timeout=_SECONDS, check=False
        )
    except subprocess.TimeoutExpired as error:
        raise TimeoutError(0, say("prerequisites.it-does-not-end-within-s", seconds=_SECONDS), interpreter) from error
    return {line.strip().lower() for line in done.stdout.splitlines()}
