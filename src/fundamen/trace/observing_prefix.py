"""Run a program of a prefix under wine, and collect what its loader loads, tries and fails to load.

Guarantees: the run ends within its time, and nothing that it started goes on after it; the prefix is afterwards as the
program itself has left it. wine's own housekeeping in the registry (times, drivers) is put back byte for byte, unless
the program has written to the registry too: then the hives stay as they are. A prefix in which something runs already,
or that another version of wine would first bring up to date, is not touched.
"""

import contextlib
import os
import shutil
import signal
import subprocess
import tempfile
from collections.abc import Callable, Iterator, Mapping

import msgspec

from fundamen.formats.windows.loader_trace import Event, Failed, Loaded, LoaderTrace
from fundamen.formats.windows.text_hive import changed_keys
from fundamen.machine.machine import Machine
from fundamen.machine.observation import Observation
from fundamen.machine.places import Top
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.file_state import FileState, read_state
from fundamen.placing.replacing import name_of_ours, put
from fundamen.trace.running import MOST_OUTPUT, Marked, processes, require_time

_WINE = ("wine64", "wine", "/usr/lib/wine/wine64")
_SERVER = ("wineserver64", "wineserver", "/usr/lib/wine/wineserver64", "/usr/lib/wine/wineserver")
_SETTINGS = ("/usr/share/wine/wine.inf", "/usr/share/wine/wine/wine.inf", "/usr/local/share/wine/wine.inf")
_CHANNELS = "-all,+pid,+loaddll,+module"
_NO_MENUS = "winemenubuilder.exe=d"  # it would write into the user's desktop
_HIVES = ("system.reg", "user.reg", "userdef.reg")
_MOST_EVENTS = 50_000
_SECONDS_TO_END = 20.0  # for the server, once no program runs any more


class Wine(msgspec.Struct, frozen=True):
    """The wine of this host."""

    program: str
    server: str
    version: str


def find_wine(search_path: str) -> Wine:
    """Find wine on this host. Raises: UsageError: there is none that works."""
    program, server = (_first(names, search_path) for names in (_WINE, _SERVER))
    if program is not None and server is not None:
        with contextlib.suppress(OSError, subprocess.SubprocessError):
            answer = subprocess.run(
                [program, "--version"], capture_output=True, text=True, check=True, timeout=_SECONDS_TO_END
            )
            return Wine(program, server, answer.stdout.strip())
    raise UsageError(
        what=say("trace.the-program-cannot-be-run-here"),
        why=say("trace.this-host-has-no-wine-that"),
        do=say("trace.install-wine-without-it-programs-of"),
    )


def require_observable(machine: Machine, program: MachinePath, seconds: float) -> HostPath:
    """Make sure that a program can be run here, and give its place on this host.

    Raises:
        UsageError: it belongs to no prefix, or it is given no time.
        UnreadableError: it is no program that can be read.
    """
    if not machine.is_prefix:
        raise UsageError(
            what=say("trace.cannot-be-observed", program=printable(program)),
            why=say("trace.is-no-prefix-and-only-programs", title=machine.title),
            do=say("trace.trace-it-without-observe-or-name"),
        )
    require_time(seconds)
    machine.binary(program)
    return machine.host_path(program)


def observe(
    prefix: HostPath,
    program: tuple[MachinePath, HostPath],
    wine: Wine,
    environment: Mapping[str, str],
    seconds: float,
) -> Observation:
    """Run a program of a prefix, and tell what happened.

    Args:
        prefix: the prefix's folder.
        program: its path, as the prefix spells it and on this host.
        wine: what runs it.
        environment: that it is run in.
        seconds: after which it is stopped.

    Raises:
        UsageError: the prefix is in use, or was never set up by this version of wine.
        UnreadableError: wine could not be started, or the prefix's hives cannot be read.
    """
    require_usable(prefix)
    session = PrefixSession(wine, prefix, environment)
    before = idle = _hives(prefix)
    is_as_before = False
    try:
        with session.ended_in_any_case():
            session.run(["cmd.exe", "/c", "exit"], os.path.dirname(program[1]), _SECONDS_TO_END)
        idle = _hives(prefix)  # with what wine does by itself, without any program
        session.environment["WINEDEBUG"] = _CHANNELS
        with session.ended_in_any_case():
            seen = session.run([program[0]], os.path.dirname(program[1]), seconds)
    finally:
        after = _hives(prefix)
        if not _is_busy(prefix) and not _changed_by_program(before, idle, after):
            _put_back(prefix, before)
            is_as_before = True
    return msgspec.structs.replace(seen, is_as_before=is_as_before)


def _changed_by_program(before: dict[str, "_Hive"], idle: dict[str, "_Hive"], after: dict[str, "_Hive"]) -> set[str]:
    """The keys that differ after a run and that wine by itself leaves alone."""
    changed: set[str] = set()
    for name in _HIVES:
        by_itself = changed_keys(before[name].data, idle[name].data)
        changed |= changed_keys(idle[name].data, after[name].data) - by_itself
    return changed


class PrefixSession:
    """One run after another in one prefix, each to its very end."""

    def __init__(self, wine: Wine, prefix: HostPath, environment: Mapping[str, str]) -> None:
        """Begin; nothing is run yet."""
        self._wine = wine
        overrides = ";".join(filter(None, (environment.get("WINEDLLOVERRIDES", ""), _NO_MENUS)))
        fixed = {"WINEPREFIX": prefix, "WINEDLLOVERRIDES": overrides, "WINEDEBUG": "-all"}
        self._marked = Marked({**environment, **fixed})

    @property
    def environment(self) -> dict[str, str]:
        """Variables of the observed run."""
        return self._marked.environment

    def run(
        self, command: list[str], folder: str, seconds: float, heed: Callable[[], None] = lambda: None
    ) -> Observation:
        """Run a program, and tell how it ended; ``heed`` is called several times a second while it runs.

        Raises:
            UnreadableError: it cannot be started.
        """
        trace, events, output = LoaderTrace(), list[Event](), bytearray()

        def take(data: bytes) -> None:
            found, own = trace.feed(data)
            events.extend(found[: _MOST_EVENTS - len(events)])
            output.extend(own[: MOST_OUTPUT - len(output)])

        status, took = self._marked.run([self._wine.program, *command], folder, seconds, take, heed)
        return _observation(self._wine, status, took, events, bytes(output + trace.rest()))

    @contextlib.contextmanager
    def ended_in_any_case(self) -> Iterator[None]:
        """End whatever a run has started, also when the run is broken off; wait until the hives are written."""
        try:
            yield
        finally:
            with contextlib.suppress(OSError, subprocess.SubprocessError):
                # The server writes the hives as it ends, once the last program has ended.
                subprocess.run(
                    [self._wine.server, "-w"], env=self._marked.environment, check=False, timeout=_SECONDS_TO_END / 4
                )
            self._stop()
            with contextlib.suppress(OSError, subprocess.SubprocessError):
                subprocess.run(
                    [self._wine.server, "-w"], env=self._marked.environment, check=False, timeout=_SECONDS_TO_END
                )

    def _stop(self) -> None:
        """Stop what was started: the server is asked to, so that it writes the hives; the others cannot refuse."""
        self._marked.end(lambda pid: signal.SIGTERM if "wineserver" in _command_of(pid) else signal.SIGKILL)


def _observation(wine: Wine, status: int | None, seconds: float, events: list[Event], output: bytes) -> Observation:
    """Of all events those of the program's processes: the services of the prefix itself are left out."""
    programs = {e.process for e in events if isinstance(e, Loaded) and _is_own_program(e.path)}
    own = [event for event in events if event.process in programs]
    loaded = dict.fromkeys(MachinePath(event.path) for event in own if isinstance(event, Loaded))
    failed = {event.name: event.status for event in own if isinstance(event, Failed)}
    return Observation(
        by=wine.version,
        status=status,
        seconds=seconds,
        loaded=tuple(loaded),
        failed=tuple(failed.items()),
        output=output.decode("utf-8", "replace"),
        is_as_before=True,
    )


def _is_own_program(path: str) -> bool:
    lowered = path.lower()
    return lowered.endswith(".exe") and not lowered.startswith("c:\\windows\\")


def _is_busy(prefix: HostPath) -> bool:
    """Whether a server works for the prefix: then something runs in it. It works in a folder named after the prefix."""
    status = os.stat(prefix)
    works_in = f"server-{status.st_dev:x}-{status.st_ino:x}"
    for pid in processes():
        with contextlib.suppress(OSError):
            if os.path.basename(os.readlink(f"/proc/{pid}/cwd")) == works_in:
                return True
    return False


def require_usable(prefix: HostPath) -> None:
    """Make sure that programs can be run in a prefix now. Raises: UsageError."""
    if _is_busy(prefix):
        raise UsageError(
            what=say("trace.nothing-can-be-run-in", prefix=printable(prefix)),
            why=say("trace.a-program-runs-in-it-already"),
            do=say("trace.end-the-programs-of-this-prefix"),
        )
    if os.stat(prefix).st_uid != os.getuid():
        raise UsageError(
            what=say("trace.nothing-can-be-run-in", prefix=printable(prefix)),
            why=say("trace.it-belongs-to-another-account-and"),
            do=say("trace.run-fundamen-as-the-account-that"),
        )
    settings = next((path for path in _SETTINGS if os.path.exists(path)), None)
    with contextlib.suppress(OSError), open(os.path.join(prefix, ".update-timestamp"), encoding="ascii") as file:
        made_by = file.read(32).strip()
        if made_by == "disable" or settings is None or made_by == str(int(os.stat(settings).st_mtime)):
            return
    raise UsageError(
        what=say("trace.nothing-can-be-run-in", prefix=printable(prefix)),
        why=say("trace.this-version-of-wine-has-not"),
        do=say("trace.run-it-where-its-own-version"),
    )


class _Hive(msgspec.Struct, frozen=True):
    data: bytes
    state: FileState


def _hives(prefix: HostPath) -> dict[str, _Hive]:
    hives: dict[str, _Hive] = {}
    for name in _HIVES:
        try:
            place = Top(prefix).place(name)
            state = read_state(place)
            with place.open_to_read() as file:
                data = file.read()
            if state is not None:
                hives[name] = _Hive(data, state)
        except OSError as error:
            raise UnreadableError(
                what=say("trace.cannot-be-read-prefix-name", prefix=printable(prefix), name=name),
                why=error.strerror or str(error),
                do=say("trace.look-at-its-rights-a-prefix"),
            ) from error
    return hives


def _put_back(prefix: HostPath, hives: dict[str, _Hive]) -> None:
    """Put the hives back as they were, with their modes and times."""
    top = Top(prefix)
    for name, hive in hives.items():
        with tempfile.NamedTemporaryFile() as file:
            file.write(hive.data)
            file.flush()
            target = top.place(name)
            put(HostPath(file.name), target, target.beside(name_of_ours()), hive.state)


def _first(names: tuple[str, ...], search_path: str) -> str | None:
    return next((found for name in names if (found := shutil.which(name, path=search_path))), None)


def _command_of(pid: int) -> str:
    with contextlib.suppress(OSError), open(f"/proc/{pid}/cmdline", "rb") as file:
        return file.read().decode("utf-8", "replace")
    return ""
