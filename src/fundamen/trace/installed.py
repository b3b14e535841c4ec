"""Trace an installed package: which of its files are not as it brought them.

Its list of files in the package database stands for it, as a program's file stands for a program: whatever puts
programs right then puts packages right too. Settings are left out, since people are meant to change them, and
documentation and translations, since many machines are set up to leave them out; nothing runs by them.
"""

from fundamen.evidence.dpkg import find_listed
from fundamen.evidence.dpkg_files import LEFT_OUT, RecordedFile, Records, list_path
from fundamen.loaders.load_map import Candidate, CandidateOutcome
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, as_said, say
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Format, Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.records import INSTALLED_FILE, INSTALLED_PACKAGE, Component, Trace


def trace_installed(machine: Machine, path: MachinePath) -> Trace:
    """The files of an installed package that are at fault, as components behind the package itself.

    Args:
        machine: on which it is installed.
        path: the package's list of files in the package database.

    Raises:
        UnreadableError: no package that is wholly installed has this list, or the database may not be read.
    """
    records = Records(machine)
    package = records.package_of(path)
    if package is None:
        raise UnreadableError(
            what=say("trace.cannot-be-traced", path=path),
            why=say("trace.no-package-that-is-wholly-installed"),
            do=say("trace.see-what-is-installed-with-dpkg"),
        )
    files = [file for file in records.files(package) if not (file.is_setting or file.path.startswith(LEFT_OUT))]
    files.sort(key=lambda file: not file.md5)  # a folder that is gone comes back with its files
    faults = [component for file in files if (component := _judge_file(machine, file)) is not None]
    right = say("trace.of-files-right", count=len(files) - len(faults), other_count=len(files))
    own = Component(
        name=package.name,
        kind=INSTALLED_PACKAGE,
        verdict=Verdict.VERIFIED,
        reason=say("trace.dpkg", right=right),
        how=Necessity.REQUIRED,
        path=path,
        wanted_architecture=Architecture.ANY,
        architecture=None,
        version=package.version,
        unoffered=(),
        needed_by=(),
        chain=(),
        evidence=(),
        searched=(),
    )
    return Trace(path, Format.INSTALLED, Architecture.ANY, (own, *faults))


def trace_file(machine: Machine, path: MachinePath) -> Trace | None:
    """The trace of a file that is no program, and that an installed package has brought; None for any other file."""
    try:
        records = Records(machine)
    except UnreadableError:
        return None
    for name, listed in find_listed(machine, [path], ()):
        package = records.package_of(list_path(name))
        for file in records.files(package) if package is not None else ():
            if file.path == listed:
                return Trace(path, Format.INSTALLED, Architecture.ANY, (_judged_or_right(machine, file),))
    return None


def _judged_or_right(machine: Machine, file: RecordedFile) -> Component:
    """A file of a package; a setting is right whatever people have made of it."""
    fault = None if file.is_setting else _judge_file(machine, file)
    if fault is not None:
        return fault
    if file.is_setting:
        return _component(file, Verdict.UNVERIFIED, say("trace.a-setting-of-the-package", package=file.package))
    return _component(file, Verdict.VERIFIED, say("trace.as-the-package-brought-it", package=file.package))


def _judge_file(machine: Machine, file: RecordedFile) -> Component | None:
    """A file of a package as a component at fault; None where it is as the package brought it."""
    verdict, reason = _judge(machine, file)
    if verdict is Verdict.VERIFIED:
        return None
    return _component(file, verdict, reason)


def _component(file: RecordedFile, verdict: Verdict, reason: Message) -> Component:
    """A file of a package, judged."""
    is_there = verdict is not Verdict.MISSING
    return Component(
        name=file.path,
        kind=INSTALLED_FILE,
        verdict=verdict,
        reason=reason,
        how=Necessity.REQUIRED,
        path=file.path if is_there else None,
        wanted_architecture=Architecture.ANY,
        architecture=None,
        version=None,
        unoffered=(),
        needed_by=(),
        chain=(),
        evidence=(),
        searched=()
        if is_there
        else (Candidate(file.path, CandidateOutcome.ABSENT, say("trace.the-list-of", package=file.package)),),
        sought_as=(file.path,),
    )


def _judge(machine: Machine, file: RecordedFile) -> tuple[Verdict, Message]:
    entry, verdict, reason = machine.look(file.path), Verdict.VERIFIED, UNSAID
    if entry.kind is EntryKind.ABSENT:
        # A link of the package may be there; where it leads to is another matter.
        is_link = not file.md5 and machine.paths.basename(file.path) in machine.names(machine.folder_of(file.path))
        if not is_link:
            verdict, reason = Verdict.MISSING, say("trace.the-package-brought-it-and-it", package=file.package)
    elif file.md5 and entry.kind is not EntryKind.FILE:
        verdict, reason = Verdict.BLOCKED, entry.why or say("trace.it-is-no-file-but-a", kind=entry.kind)
    elif file.md5:
        try:
            if machine.digest(file.path, "md5") != file.md5:
                verdict, reason = Verdict.CORRUPT, say("trace.its-content-is-not-what-the", package=file.package)
        except (UnreadableError, OSError) as error:
            why = error.why if isinstance(error, UnreadableError) else as_said(error.strerror or str(error))
            verdict, reason = Verdict.BLOCKED, why
    return verdict, reason
