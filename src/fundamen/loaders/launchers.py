"""Find what a unit of systemd, a desktop entry or a list of cron jobs starts, as whom and with which variables.

Nothing is run. What only a run could tell is said.
Sources: systemd.service(5), "Command Lines"; systemd.exec(5), "Paths", "User/Group Identity", "Environment" and
"Process Exit Codes"; systemd.unit(5), "Unit File Load Path"; Desktop Entry Specification 1.5, "The Exec key";
crontab(5).
"""

import posixpath
import re
import shlex
from collections.abc import Iterator, Mapping, Sequence

import msgspec

from fundamen.formats.byte_source import MemoryBytes
from fundamen.formats.unix.shell import read_shell
from fundamen.formats.unix.shell_words import Quoting
from fundamen.formats.unix.unit_file import fill_specifiers, fill_variables, read_sections, split_commands, split_words
from fundamen.loaders.load_map import (
    ACCOUNT,
    ENVIRONMENT_FILE,
    WORKING_FOLDER,
    Candidate,
    CandidateOutcome,
    LoadMap,
    Resolution,
)
from fundamen.loaders.starting import Load, Start, StartUnknownError, with_program
from fundamen.loaders.wrappers import with_started
from fundamen.machine.access import Runner, find_user
from fundamen.machine.accounts import knows_others
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.units import UNIT_FOLDERS, find_unit, is_masked
from fundamen.messages import Message, as_said, say
from fundamen.model.architecture import Architecture, Platform
from fundamen.model.binary import Binary, BinaryKind, Format, Necessity
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import MachinePath

_UNITS = (".service", ".timer", ".socket", ".path")
_STARTS_OTHERS = {".timer": ("Timer", "Unit"), ".socket": ("Socket", "Service"), ".path": ("Path", "Unit")}
_ENTRY = ".desktop"
_ENTRY_FOLDERS = ("/usr/local/share/applications", "/usr/share/applications", "/etc/xdg/autostart")
_CRON_FOLDERS = ("/etc/cron.d", "/var/spool/cron/crontabs")
_CRON_TABLE = "/etc/crontab"
_AT_START = ("ExecCondition", "ExecStartPre", "ExecStart", "ExecStartPost")
_LATER = ("ExecReload", "ExecStop", "ExecStopPost")
_SYSTEM_PATH = "/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin"
_CRON_PATH = "/usr/bin:/bin"
_ROOT = Runner("root", 0)
_OTHER_ROOT = ("RootDirectory", "RootImage")
_MADE_AT_START = {
    "RuntimeDirectory": "/run",
    "StateDirectory": "/var/lib",
    "CacheDirectory": "/var/cache",
    "LogsDirectory": "/var/log",
    "ConfigurationDirectory": "/etc",
}
_OF_A_RUN = ("/run/", "/var/run/", "/tmp/", "/dev/")  # noqa: S108 - what lies there is of a machine that is up
_MOST_BYTES = 1 << 20
_MOST_PARTS = 64  # drop-ins of a unit, and its files of variables
_MOST_STARTS = 50
_CRON_TIME = re.compile(r"\s*(?:@\w+|(?:\S+\s+){4}\S+)\s+")
_VARIABLE = re.compile(r"""\s*["']?([A-Za-z_]\w*)["']?\s*=\s*(.*?)\s*""")
_BUILT_IN = re.compile(r"[.:\[]|cd|test|exit|export|set|unset|umask|ulimit|read|exec|eval|true|false|echo|printf|trap")
_FIELD_CODE = re.compile(r"%[a-zA-Z]")
_TEXT_ESCAPES = {"\\s": " ", "\\n": "\n", "\\t": "\t", "\\r": "\r", "\\\\": "\\"}


class Launcher(Binary, frozen=True, kw_only=True):
    """A file that says which programs are started."""


def find_launcher(machine: Machine, name: str) -> MachinePath | None:
    """The file of a unit or desktop entry that is named without its folder; None where there is none."""
    if machine.platform is not Platform.LINUX or "/" in name:
        return None
    if name.endswith(_UNITS):
        return find_unit(machine, name)
    places = (MachinePath(f"{folder}/{name}") for folder in _ENTRY_FOLDERS if name.endswith(_ENTRY))
    return next((place for place in places if machine.look(place).kind is EntryKind.FILE), None)


def is_launcher(machine: Machine, path: MachinePath) -> bool:
    """Whether a path is that of a file that says which programs are started."""
    if machine.platform is not Platform.LINUX:
        return False
    return path.endswith((*_UNITS, _ENTRY)) or path == _CRON_TABLE or posixpath.dirname(path) in _CRON_FOLDERS


def is_program(machine: Machine, path: MachinePath) -> bool:
    """Whether a file is a program after all, whatever it is called."""
    try:
        machine.binary(path)
    except UnreadableError:
        return False
    return True


def load_map(machine: Machine, path: MachinePath, load: Load) -> LoadMap:
    """Find what the programs need that a unit, desktop entry or list of jobs starts.

    Args:
        machine: on which it lies.
        path: the unit, entry or list.
        load: gives what a program needs by itself.

    Raises:
        UnreadableError: it cannot be read.
    """
    masked = path.endswith(_UNITS) and is_masked(machine, path)
    text = "" if masked else machine.content(path, _MOST_BYTES).decode("utf-8", "replace")
    binary = Launcher(
        format=Format.LAUNCHER,
        kind=BinaryKind.PROGRAM,
        architecture=Architecture.ANY,
        name=None,
        needs=(),
        problems=(),
        size=len(text),
    )
    loading = LoadMap(path, binary, Architecture.ANY, {}, ())
    name = posixpath.basename(path)
    if masked:
        return msgspec.structs.replace(loading, switched_off=say("loaders.it-is-masked"))
    if path.endswith(_UNITS):
        return _Unit(machine, loading, name, load).load_map(text)
    starts = _entry_starts(text) if path.endswith(_ENTRY) else _job_starts(machine, path, text)
    return _with_starts(machine, loading, starts, load)


def _with_starts(machine: Machine, loading: LoadMap, starts: Iterator[Start], load: Load) -> LoadMap:
    """The needs of all that is started; what cannot be followed is said."""

    def follow(machine: Machine, program: MachinePath) -> LoadMap:
        return with_started(machine, load(machine, program), load)

    not_followed = loading.not_followed
    users: set[Runner | None] = set()
    try:
        for count, start in enumerate(starts):
            if count == _MOST_STARTS:
                not_followed = not_followed or say("loaders.it-starts-more-than", count=_MOST_STARTS)
                break
            users.add(start.user)
            try:
                loading = with_program(machine, loading, start, follow)
            except StartUnknownError as error:
                not_followed = not_followed or as_said(error.args[0])
    except ValueError as error:
        not_followed = not_followed or as_said(error.args[0])
    user = next(iter(users)) if len(users) == 1 else None
    return msgspec.structs.replace(loading, not_followed=loading.not_followed or not_followed, run_as=user)


class _Unit:
    """A unit of systemd with its drop-ins."""

    def __init__(self, machine: Machine, loading: LoadMap, name: str, load: Load) -> None:
        self._machine, self._loading, self._name, self._load = machine, loading, name, load

    def load_map(self, text: str) -> LoadMap:
        """The needs of all that the unit starts."""
        sections = read_sections("\n".join((text, *self._drop_ins())))
        for ending, (section, key) in _STARTS_OTHERS.items():
            if self._name.endswith(ending):
                return self._other(sections.get(section, {}).get(key, []))
        self._values = sections.get("Service", sections.get("D-BUS Service", {}))
        try:
            if self._is_elsewhere():
                why = say("loaders.it-runs-in-a-root-of-its-own")
                return msgspec.structs.replace(self._loading, not_followed=why)
            starts = list(self._starts(self._find_user()))
        except ValueError as error:
            return msgspec.structs.replace(self._loading, not_followed=as_said(error.args[0]))
        return _with_starts(self._machine, self._loading, iter(starts), self._load)

    def _is_elsewhere(self) -> bool:
        return any(self._last(key) not in {"", "/"} for key in _OTHER_ROOT)

    def _drop_ins(self) -> Iterator[str]:
        """The further files of the unit, as the last of a name counts. Source: systemd.unit(5)."""
        stem, _, kind = self._name.rpartition(".")
        names = [f"{kind}.d", *(f"{self._name[:at]}-.{kind}.d" for at in _dashes(stem)), f"{self._name}.d"]
        if "@" in stem:
            names.insert(-1, f"{stem.partition('@')[0]}@.{kind}.d")
        chosen: dict[str, MachinePath] = {}
        for folder in reversed(UNIT_FOLDERS):
            for name in names:
                inner = self._machine.join(folder, name)
                for file in self._machine.names(inner)[:_MOST_PARTS]:
                    if file.endswith(".conf"):
                        chosen[file] = self._machine.join(inner, file)
        for file in sorted(chosen)[:_MOST_PARTS]:
            yield self._text_of(chosen[file]) or ""

    def _other(self, named: Sequence[str]) -> LoadMap:
        """The needs of the service that a timer, socket or path starts."""
        stem = self._name.rpartition(".")[0]
        name = named[-1] if named else f"{stem}.service"
        path = find_unit(self._machine, name)
        if path is None or not path.endswith(".service"):
            return self._add_lack(name, "started-unit", say("loaders.the-unit-is-not-there"), "")
        inner = load_map(self._machine, path, self._load)
        resolution = Resolution(name, self._loading.program, Necessity.REQUIRED, (), path, "started-unit")
        loading = msgspec.structs.replace(self._loading, resolutions=(resolution,))
        return msgspec.structs.replace(
            loading.joined_with(inner), not_followed=inner.not_followed, run_as=inner.run_as, remarks=inner.remarks
        )

    def _last(self, key: str) -> str:
        values = self._values.get(key, [])
        return fill_specifiers(values[-1], self._name) if values else ""

    def _find_user(self) -> Runner | None:
        """The user whom the unit names; the administrator where it names none."""
        name = self._last("User")
        if self._last("DynamicUser") in {"yes", "true", "1", "on"}:
            return None
        if not name:
            return _ROOT
        if name.isdigit():
            return Runner(name, int(name))
        try:
            return find_user(self._machine, name)
        except UsageError as error:
            if knows_others(self._machine):
                return None
            self._loading = self._add_lack(name, ACCOUNT, error.why, "217/USER")
            return None

    def _starts(self, user: Runner | None) -> Iterator[Start]:
        environment = self._environment()
        folder = self._folder()
        for key in (*_AT_START, *_LATER):
            for value in self._values.get(key, []):
                for words in split_commands(value, self._name):
                    name = words[0].lstrip("-@:+!|")
                    marks = words[0][: len(words[0]) - len(name)]
                    arguments = words[2:] if "@" in marks else words[1:]
                    yield Start(
                        words=(name, *fill_variables(arguments, environment)),
                        because=say("loaders.key-of-the-unit", key=key),
                        environment=environment,
                        folder=folder,
                        how=_how_needed(key, marks),
                        inherits=False,
                        user=_ROOT if "+" in marks else user,
                        gives_up_with=say("loaders.status-of-systemd", status="203/EXEC"),
                    )

    def _folder(self) -> str:
        """The folder in which the commands are started; a fault where it is not there."""
        named = self._last("WorkingDirectory")
        folder = named.lstrip("-")
        if folder in {"", "~"}:
            return "/"
        is_needed = not named.startswith("-") and not self._is_made_at_start(folder)
        if is_needed and self._machine.look(MachinePath(folder)).kind is not EntryKind.FOLDER:
            why = say("loaders.there-is-no-such-folder")
            self._loading = self._add_lack(folder, WORKING_FOLDER, why, "200/CHDIR")
        return folder

    def _is_made_at_start(self, folder: str) -> bool:
        """Whether systemd makes a folder before it starts the unit, or the machine as it comes up."""
        made = (
            f"{parent}/{fill_specifiers(name.partition(':')[0], self._name)}"
            for key, parent in _MADE_AT_START.items()
            for value in self._values.get(key, [])
            for name in split_words(value)
        )
        return folder.startswith(_OF_A_RUN) or any(folder == each or folder.startswith(f"{each}/") for each in made)

    def _environment(self) -> dict[str, str]:
        """The variables that the unit sets, files of them last."""
        environment = {"PATH": self._last("ExecSearchPath") or _SYSTEM_PATH}
        for value in self._values.get("Environment", []):
            for word in split_words(value):
                name, is_set, rest = fill_specifiers(word, self._name).partition("=")
                if is_set:
                    environment[name] = rest
        for value in self._values.get("EnvironmentFile", [])[:_MOST_PARTS]:
            path = fill_specifiers(value.lstrip("-"), self._name)
            text = self._text_of(MachinePath(path)) if "*" not in path else ""
            if text is None and not value.startswith("-") and not path.startswith(_OF_A_RUN):
                why = say("loaders.there-is-no-such-file")
                self._loading = self._add_lack(path, ENVIRONMENT_FILE, why, "")
            environment.update(read_variables(text or ""))
        for value in self._values.get("UnsetEnvironment", []):
            for word in split_words(value):
                environment.pop(word.partition("=")[0], None)
        return environment

    def _text_of(self, path: MachinePath) -> str | None:
        try:
            return self._machine.content(path, _MOST_BYTES).decode("utf-8", "replace")
        except UnreadableError:
            return None

    def _add_lack(self, name: str, kind: str, why: Message, status: str) -> LoadMap:
        """The needs, with one that is not met."""
        place = MachinePath(name if name.startswith("/") else f"/{name}")
        candidates = (Candidate(place, CandidateOutcome.ABSENT, say("loaders.the-unit-itself"), why),)
        gives_up_with = (
            say("loaders.status-of-systemd", status=status) if status else say("loaders.resources-of-systemd")
        )
        lacking = Resolution(
            name,
            self._loading.program,
            Necessity.REQUIRED,
            candidates if kind != ACCOUNT else (),
            None,
            kind,
            decided=why,
            gives_up_with=gives_up_with,
        )  # fmt: skip
        return msgspec.structs.replace(self._loading, resolutions=(*self._loading.resolutions, lacking))


def _how_needed(key: str, marks: str) -> Necessity:
    """When a command of a unit is needed; one of which a failure is ignored never is."""
    if "-" in marks:
        return Necessity.OPTIONAL
    return Necessity.REQUIRED if key in _AT_START else Necessity.DELAYED


def _dashes(stem: str) -> Iterator[int]:
    return (found.start() for found in re.finditer("-", stem))


def read_variables(text: str) -> Mapping[str, str]:
    """The variables in a file of them. Source: systemd.exec(5), "EnvironmentFile="."""
    found: dict[str, str] = {}
    for line in text.replace("\\\n", "").splitlines():
        name, is_set, value = line.strip().partition("=")
        if is_set and not name.startswith(("#", ";")):
            try:
                found[name.strip()] = (
                    " ".join(shlex.split(value.strip())) if value.strip()[:1] in "\"'" else value.strip()
                )
            except ValueError:
                continue
    return found


def _entry_starts(text: str) -> Iterator[Start]:
    """The program of a desktop entry. Raises: ValueError: its command cannot be taken apart."""
    entry = read_sections(text).get("Desktop Entry", {})
    folder = next(iter(entry.get("Path", [])), None)
    for key in ("TryExec", "Exec"):
        for value in entry.get(key, [])[:1]:
            whole = re.sub(r"\\[sntr\\]", lambda found: _TEXT_ESCAPES[found[0]], value)
            words = [word for word in shlex.split(whole) if not _FIELD_CODE.fullmatch(word)]
            environment: dict[str, str] = {}
            if words[:1] == ["env"]:
                words = words[1:]
                while words and "=" in words[0]:
                    name, _, rest = words.pop(0).partition("=")
                    environment[name] = rest
            if words:
                because = say("loaders.key-of-the-entry", key=key)
                yield Start(tuple(words), because, environment, folder)


def _job_starts(machine: Machine, path: MachinePath, text: str) -> Iterator[Start]:
    """The programs of a list of jobs; a list in the spool belongs to the user after whom it is called."""
    owner = posixpath.basename(path) if posixpath.dirname(path) == _CRON_FOLDERS[1] else ""
    environment = {"PATH": _CRON_PATH}
    for number, line in enumerate(text.splitlines(), 1):
        if not line.strip() or line.lstrip().startswith("#"):
            continue
        if found := _VARIABLE.fullmatch(line):
            environment[found[1]] = found[2].strip("\"'")
            continue
        at = _CRON_TIME.match(line)
        if at is None:
            continue
        command = line[at.end() :].split("%")[0]
        name = owner
        if not owner:
            name, command = (*command.split(maxsplit=1), "", "")[:2]
        try:
            user = find_user(machine, name)
        except UsageError as error:
            raise ValueError(
                say("loaders.line-names-the-user", line=number, name=printable(name), why=error.why)
            ) from None
        yield from _job_commands(command, say("loaders.line-of-the-list", line=number), dict(environment), user)


def _job_commands(command: str, because: Message, environment: dict[str, str], user: Runner) -> Iterator[Start]:
    """Find the programs that a line of the shell starts, as far as its words are plain."""
    script = read_shell(MemoryBytes(command.encode("utf-8", "surrogateescape"), "it"))
    folder = "/"
    for each in script.commands:
        words = [word.pieces[0].text if _is_plain(word.pieces) else None for word in each.words]
        while words and words[0] in {"exec", "nice", "command", "nohup", "ionice"}:
            words = words[1:]
        if not words or words[0] is None or each.is_inner:
            continue
        if words[0] == "cd" and len(words) > 1:
            folder = words[1] or folder
        if _BUILT_IN.fullmatch(words[0]) or words[0] in script.functions:
            continue
        given = {name: word.pieces[0].text for name, word in each.assigned if _is_plain(word.pieces)}
        yield Start(
            words=tuple(word or "" for word in words),
            because=because,
            environment={**environment, **given},
            folder=folder,
            how=Necessity.REQUIRED if each.is_certain else Necessity.DELAYED,
            inherits=False,
            user=user,
        )


def _is_plain(pieces: Sequence[object]) -> bool:
    return len(pieces) == 1 and getattr(pieces[0], "how", None) is Quoting.TEXT
