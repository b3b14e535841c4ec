"""The step that runs a publisher's installer, or its repair, in a prefix.

Guarantees: nothing is run whose publisher is not trusted, or whose bytes are not those that were rehearsed. All of the
prefix is kept before, as a cold copy; what the installer changes is known afterwards; where it fails, or is
interrupted, the prefix is brought back. Undoing it leaves alone what others have put there since, and what they have
changed since hinders it; in the registry just the values that the installer has changed get their old content again.
"""

import os
import shutil
import subprocess
from collections.abc import Iterable, Iterator, Sequence
from contextlib import contextmanager
from datetime import UTC, datetime

import msgspec

from fundamen.changes.base import Keeping, Record, Site, Step, Tell
from fundamen.changes.installer_following import OWN_LOG, InstallerLog, LogLine, log_place
from fundamen.changes.tree_change import (
    Tree,
    TreeChange,
    bring_back,
    bring_out_all,
    compare_listings,
    differs,
    keep_tree,
    tree_of,
    with_digests,
)
from fundamen.cold_copies.entries import entries_below
from fundamen.cold_copies.manifest import ColdCopy, CopiedEntry, CopiedKind, manifest_bytes, read_manifest
from fundamen.formats.windows import text_hive
from fundamen.formats.windows.text_hive import ChangedValue, changed_values
from fundamen.knowledge.entries import load_knowledge
from fundamen.machine.observation import Observation
from fundamen.machine.places import Place
from fundamen.messages import UNSAID, Message, say
from fundamen.model.display import printable
from fundamen.model.encoding import as_message, encode_json
from fundamen.model.errors import FundamenError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.placing.file_state import digest_of_file, digest_of_place, read_state
from fundamen.placing.flushing import flush_folder
from fundamen.placing.own_files import remove_own, write_whole
from fundamen.placing.replacing import name_of_ours, put

_HIVES = ("system.reg", "user.reg", "userdef.reg")
_MOST_LISTED = 100_000
_QUIET, _LOGGED = "/qn", "/l*v"
# Source: "Windows Installer", "Error Codes"; what the other statuses mean is in the knowledge.
_NEEDS_RESTART = {1641, 3010}
_DONE = {0, *_NEEDS_RESTART}
_LONGEST_QUOTE = 300  # characters
_VARIABLE, _STATUS = "FUNDAMEN_COMMAND", "fundamen-status "
# The variable is expanded after the line was split, so nothing in it is taken for a further command.
_THROUGH = ["cmd.exe", "/v:on", "/c", f"!{_VARIABLE}! & echo {_STATUS}!errorlevel!"]


class InstallerOutcome(msgspec.Struct, frozen=True):
    """The outcome of an installer."""

    status: int
    meaning: Message
    seconds: float
    needs_restart: bool
    lines: tuple[LogLine, ...]  # the decisive ones of its log
    change: TreeChange
    values: tuple[ChangedValue, ...]  # of the registry
    worse: tuple[str, ...]  # what it made worse, in words


class _Left(msgspec.Struct, frozen=True):
    """Results that were recorded once it had ended."""

    entries: tuple[CopiedEntry, ...]  # of what it has added or changed, as it has left that
    change: TreeChange
    outcome: InstallerOutcome | None  # None: it has failed


class InstallerRunRecord(Record, frozen=True, kw_only=True, tag_field="kind", tag="installer"):
    """A publisher's installer is run in a prefix."""

    undone = "brought back"

    sha256: str
    arguments: tuple[str, ...]
    log: str  # where it writes its log, as the prefix spells it; empty for the place of ours
    seconds: float  # how long it may take
    wine: tuple[str, str, str]  # the host paths of wine and its server, and its version
    kept: str  # how the paths of what is kept begin: .json and .tar.zst, and afterwards -after.json
    environment: tuple[tuple[str, str], ...] = ()  # that it is run in

    def make(self, site: Site, tell: Tell) -> None:
        """Run it, and write down what it has changed; the decisive lines of its log are reported as they are written.

        Raises:
            OSError: it is not what was rehearsed, or it has failed; then the prefix is to be brought back.
        """
        _run(self, site, tell)

    def is_made(self, site: Site) -> bool:
        """Whether it has ended well."""
        return outcome_of(self, site) is not None

    def obstacle(self, site: Site) -> Message:
        """Why it cannot be undone; empty where it can."""
        return _why_it_must_stay(self, site)

    def take_back(self, site: Site) -> None:
        """Make the prefix as it was. Raises: OSError: something cannot be written, or what was kept is damaged."""
        _take_back(self, site)

    def kept_at(self, site: Site) -> str:
        """How the paths of what is kept begin."""
        return site.kept_path(self.kept)


class RunInstaller(Step, frozen=True, kw_only=True):
    """One step: a publisher's installer is run in a prefix."""

    verb = "run"

    sha256: str
    publisher: str  # who has signed it, for people
    arguments: tuple[str, ...]
    log: str
    seconds: float
    wine: tuple[str, str, str]  # as of the record
    environment: tuple[tuple[str, str], ...]  # that it is run in

    @property
    def preview_details(self) -> tuple[str, ...]:
        """Details for a preview."""
        return (say("changes.signed-by-it-may-take-s", publisher=self.publisher, seconds=self.seconds),)

    def room(self, place: Place) -> tuple[int, int]:
        """All of the prefix, before it is packed. Raises: OSError."""
        return 0, sum(entry.state.size for entry in entries_below(place, []) if not entry.same_as)

    def keep(self, keeping: Keeping) -> InstallerRunRecord:
        """Keep all of the prefix; nothing in it is changed.

        Raises:
            OSError: it cannot be kept.
            UsageError: the prefix is in use.
        """
        from fundamen.trace.observing_prefix import require_usable  # noqa: PLC0415 - seldom needed

        machine = keeping.site.machine
        require_usable(machine.root)
        record = InstallerRunRecord(
            path=self.path,
            sha256=self.sha256,
            arguments=self.arguments,
            log=self.log,
            seconds=self.seconds,
            wine=self.wine,
            environment=self.environment,
            kept=keeping.site.as_kept(os.path.join(keeping.kept_folder, f"installer-{keeping.number}")),
        )
        prefix, archive = keeping.site.place("/"), _kept_path(record, keeping.site, ".tar.zst")
        found = tuple(entries_below(prefix, []))
        copy = ColdCopy(
            number=1,
            machine=machine.title,
            folder=MachinePath(machine.root),
            taken_at=datetime.fromtimestamp(0, UTC),
            because=str(self.path),
            entries=(),
            left_out=(),
            unquiet=(),
            archive_sha256="0" * 64,
            archive_size=0,
        )
        write_whole(_kept_path(record, keeping.site, ".json"), manifest_bytes(keep_tree(prefix, found, archive, copy)))
        return record


def _run(record: InstallerRunRecord, site: Site, tell: Tell) -> None:
    """Run it, and write down what it has changed; the decisive lines of its log are reported as they are written.

    Raises:
        OSError: it is not what was rehearsed, or it has failed; then the prefix is to be brought back.
    """
    from fundamen.changes.getting_worse import find_worse  # noqa: PLC0415 - seldom needed
    from fundamen.trace.observing_prefix import PrefixSession, Wine  # noqa: PLC0415

    installer, prefix = site.machine.place(record.path), site.place("/")
    if digest_of_place(installer) != record.sha256:
        raise OSError(0, say("changes.it-is-not-the-installer-that"), installer.host)
    copy = _copy(record, site)
    if compare_listings(tree_of(copy.entries), _now(prefix, copy)) != TreeChange((), (), ()):
        _take_back(record, site)  # an earlier run was interrupted
    remove_own(_kept_path(record, site, "-after.json"))  # of one that had failed: it says nothing of this run
    session = PrefixSession(Wine(*record.wine), prefix.host, dict(record.environment))
    session.environment["WINEDEBUG"] = "-all"
    session.environment[_VARIABLE] = subprocess.list2cmdline(_command(record))
    log = InstallerLog(log_place(record.log, prefix.host), tell)
    with session.ended_in_any_case():
        folder = installer.folder.host
        seen = _with_whole_status(session.run(_THROUGH, folder, record.seconds, log.heed))
    lines = log.finish()
    now = _now(prefix, copy)
    change = compare_listings(tree_of(copy.entries), now)
    entries = tuple(now[path] for path in (*change.added, *change.changed))
    if seen.status is None or seen.status not in _DONE:
        _write(record, site, _Left(entries, change, None))
        raise OSError(0, _why_it_failed(seen.status, record.seconds, lines, seen.output), installer.host)
    with _brought_out(record, site, copy, change.changed) as kept:
        values = tuple(
            value
            for name in _HIVES
            if name in kept
            for value in changed_values(_read(kept[name]), _bytes_of(prefix.below(name)))
        )
        worse = find_worse(prefix.host, change, values, kept)
    outcome = InstallerOutcome(
        status=seen.status,
        meaning=_meaning_of(seen.status),
        seconds=seen.seconds,
        needs_restart=seen.status in _NEEDS_RESTART,
        lines=lines,
        change=change,
        values=values[:_MOST_LISTED],
        worse=worse,
    )
    for name in _HIVES:
        if name in now:
            write_whole(_kept_path(record, site, f"-{name}"), _bytes_of(prefix.below(name)))
    _write(record, site, _Left(entries, change, outcome))


def outcomes_of(records: Iterable[Record], site: Site) -> tuple[tuple[MachinePath, InstallerOutcome], ...]:
    """(path, outcome) of each record of an installer that was run. Raises: OSError."""
    runs = [record for record in records if isinstance(record, InstallerRunRecord)]
    return tuple((run.path, outcome) for run in runs if (outcome := outcome_of(run, site)) is not None)


def outcome_of(record: InstallerRunRecord, site: Site) -> InstallerOutcome | None:
    """Its outcome; None where it is unknown. Raises: OSError."""
    left = _read_left(record, site)
    return left.outcome if left is not None else None


def _why_it_must_stay(record: InstallerRunRecord, site: Site) -> Message:
    """Why it cannot be undone; empty where it can. Raises: OSError."""
    if not os.path.exists(_kept_path(record, site, ".json")):
        return say("changes.what-was-kept-of-the-prefix")
    left = _read_left(record, site)
    if left is None:
        return UNSAID
    before, ours = tree_of(_copy(record, site).entries), tree_of(left.entries)
    for path in (*left.change.changed, *left.change.added):
        if path in _HIVES or ours[path].kind is CopiedKind.FOLDER:
            continue
        state = read_state(site.place(f"/{path}"))
        known = {(each[path].state.sha256, each[path].state.link) for each in (before, ours) if path in each}
        if state is not None and (state.sha256, state.link) not in known:
            return say("changes.in-the-prefix-was-changed-after", path=printable(path))
    return UNSAID


def _take_back(record: InstallerRunRecord, site: Site) -> None:
    """Make the prefix as it was. Raises: OSError: something cannot be written, or what was kept is damaged."""
    from fundamen.trace.observing_prefix import require_usable  # noqa: PLC0415 - seldom needed

    try:
        require_usable(site.machine.root)
        site.ground.forget()
        copy = _copy(record, site)
        left, prefix = _read_left(record, site), site.place("/")
        now = _now(prefix, copy)
        ours = tree_of(left.entries) if left is not None else None
        used = frozenset(
            name
            for name in _HIVES
            if ours is not None and name in ours and name in now and differs(ours[name], now[name])
        )
        bring_back(prefix, copy, _kept_path(record, site, ".tar.zst"), now, ours, used)
        for name in sorted(used):
            _give_back_values(record, site, copy, name)
    except FundamenError as error:
        raise OSError(0, error.why, site.machine.root) from error


def _give_back_values(record: InstallerRunRecord, site: Site, copy: ColdCopy, name: str) -> None:
    """Of a hive that others have written since, just the values that the installer had changed are put back."""
    target = site.place(f"/{name}")
    data = _bytes_of(target)
    with _brought_out(record, site, copy, [name]) as kept:
        values = changed_values(_read(kept[name]), _read(_kept_path(record, site, f"-{name}")))
    for changed in values:
        if text_hive.find_value(data, changed.key, changed.name) == changed.new:
            data = text_hive.with_value(data, changed.key, changed.name, changed.old, 0)
    state = read_state(target)
    if state is None:
        return
    ours = _kept_path(record, site, f"-back-{name}")
    write_whole(ours, data)
    state = msgspec.structs.replace(state, size=len(data), sha256=digest_of_file(ours), modified_ns=-1)
    put(ours, target, target.beside(name_of_ours()), state)


def _with_whole_status(seen: Observation) -> Observation:
    """The observation with the status of the command processor: a process of this host has only one byte of it."""
    before, word, exit_word = seen.output.rpartition(_STATUS)
    digits = exit_word.strip()
    if seen.status is None or not word or not digits.isdecimal():
        return seen
    return msgspec.structs.replace(seen, status=int(digits), output=before)


def _command(record: InstallerRunRecord) -> list[str]:
    if record.path.lower().endswith(".msi"):
        return ["msiexec", "/i", record.path, _QUIET, _LOGGED, record.log or OWN_LOG, *record.arguments]
    return [record.path, *record.arguments]


def _why_it_failed(status: int | None, seconds: float, lines: tuple[LogLine, ...], output: str) -> Message:
    if status is None:
        return say("changes.it-had-not-ended-after-s", seconds=seconds)
    cause = next((line for line in lines if line.is_cause), lines[0] if lines else None)
    meaning, said = _meaning_of(status), output.strip().splitlines()[-1:]
    if cause is not None:
        text = printable(cause.text)[:_LONGEST_QUOTE]
        return say("changes.by-its-log", meaning=meaning, number=cause.number, text=text)
    return (
        say("changes.by-what-it-said", meaning=meaning, said=printable(said[0])[:_LONGEST_QUOTE]) if said else meaning
    )


def _now(prefix: Place, copy: ColdCopy) -> Tree:
    return with_digests(prefix, entries_below(prefix, []), tree_of(copy.entries))


def _kept_path(record: InstallerRunRecord, site: Site, ending: str) -> HostPath:
    return HostPath(site.kept_path(record.kept) + ending)


def _copy(record: InstallerRunRecord, site: Site) -> ColdCopy:
    path = _kept_path(record, site, ".json")
    try:
        return read_manifest(_read(path), path)
    except FundamenError as error:
        raise OSError(0, error.why, record.kept) from error


def _write(record: InstallerRunRecord, site: Site, left: _Left) -> None:
    path = _kept_path(record, site, "-after.json")
    write_whole(path, encode_json(left))
    flush_folder(os.path.dirname(path))


def _read_left(record: InstallerRunRecord, site: Site) -> _Left | None:
    try:
        return msgspec.json.decode(_read(_kept_path(record, site, "-after.json")), type=_Left, dec_hook=as_message)
    except FileNotFoundError:
        return None
    except msgspec.DecodeError as error:
        raise OSError(0, say("changes.what-was-written-down-of-the", error=error), record.kept) from error


@contextmanager
def _brought_out(
    record: InstallerRunRecord, site: Site, copy: ColdCopy, paths: Sequence[str]
) -> Iterator[dict[str, HostPath]]:
    """Some files of the prefix as they were: path -> our own copy, for as long as the block lasts. Raises: OSError."""
    spare, wanted = _kept_path(record, site, ".seen"), set(paths)
    digests = {e.path: e.state.sha256 for e in copy.entries if e.path in wanted and e.kind is CopiedKind.FILE}
    places = {path: HostPath(os.path.join(spare, sha256)) for path, sha256 in digests.items()}
    try:
        bring_out_all(
            _kept_path(record, site, ".tar.zst"), copy, {digests[path]: place for path, place in places.items()}
        )
        yield places
    except FundamenError as error:
        raise OSError(0, error.why, record.kept) from error
    finally:
        shutil.rmtree(spare, ignore_errors=True)


def _bytes_of(place: Place) -> bytes:
    with place.open_to_read() as file:
        return file.read()


def _read(path: str) -> bytes:
    with open(path, "rb") as file:
        return file.read()


def _meaning_of(status: int) -> Message:
    """The meaning of a status, in a clause."""
    code = load_knowledge().code("windows-installer", status)
    if code is not None:
        means = code.means[0].lower() + code.means[1:].rstrip(".")
        return say("changes.status-with-a-meaning", means=means)
    return (
        say("changes.it-says-that-it-is-done")
        if status == 0
        else say("changes.status-which-its-publisher-must-explain", status=status)
    )
