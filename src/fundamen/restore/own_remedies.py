"""Plan what mends a program without any package: a link that is gone, a copy without its links, line ends of Windows.

Each remedy uses only what the machine has; whether it cures is left to the rehearsal.
"""

import hashlib
import posixpath
from collections.abc import Callable, Iterator

import msgspec

from fundamen.changes.base import MISSING
from fundamen.changes.files import Change, MakeLink
from fundamen.changes.rights import ChangeRights, allow
from fundamen.evidence.alternatives import find_alternative
from fundamen.evidence.certificate_bundle import BUNDLE, bundle_of
from fundamen.evidence.dpkg_database import STATUS, find_database_damage
from fundamen.formats.unix.ld_cache import write_ld_cache
from fundamen.loaders.ld_configuration import CACHE, CONFIGURATION_FOLDER, find_cache_entries
from fundamen.loaders.load_map import CandidateOutcome
from fundamen.loaders.preload_list import PRELOAD, without_unloadable
from fundamen.loaders.python_environment import find_base
from fundamen.machine.links import dangling_target, is_gone
from fundamen.machine.machine import EntryKind, Machine
from fundamen.machine.overlay import Layer
from fundamen.messages import say
from fundamen.model.architecture import Platform
from fundamen.model.binary import Format
from fundamen.model.paths import HostPath, MachinePath
from fundamen.model.verdict import Verdict
from fundamen.placing.file_state import FileState
from fundamen.restore.steps import LEADS_TO_NOTHING, expected_state
from fundamen.trace.astray import file_without_link, link_in_text, moved_folder
from fundamen.trace.copies import find_copies
from fundamen.trace.records import (
    ALTERNATIVE,
    BUNDLE_OF_CERTIFICATES,
    DATABASE,
    OF_THE_SYSTEM,
    PRELOAD_LIST,
    Component,
    Trace,
)

KeepBytes = Callable[[bytes], HostPath]  # gives our own copy of some bytes

_MOST_DATABASE = 1 << 28  # bytes
_RUN_ALL = 0o111
_WRITTEN_BY_OTHERS, _STICKY = 0o022, 0o1000
_APART = {"/opt", "/srv"}  # where applications lie each below a folder of its own
_PARTS_OF_APPLICATION = 4  # of the path of its program: "", "opt", its name, and more
_MOST_SCRIPT = 1 << 20  # bytes


class OwnLink(Change, frozen=True, kw_only=True):
    """A link is made or changed, with no package's word for it."""

    leads_to: MachinePath
    stood: bool  # whether something is there now, be it a link that leads to nothing
    names: tuple[MachinePath, ...] = ()  # other links that lead through it

    @property
    def replaces(self) -> bool:
        """Whether it replaces an existing entry."""
        return self.stood

    def lay_over(self, layer: Layer, _contents: object) -> None:
        """Lay it over a machine."""
        for name in (self.path, *self.names):
            layer.links[name] = self.leads_to

    def form(self, state: FileState | None) -> MakeLink:
        """The step in a plan file, which expects the current state."""
        return MakeLink(path=self.path, because=self.because, target=self.link, expects=expected_state(state))


class OwnRemedy(msgspec.Struct, frozen=True):
    """One step, with the bytes that it writes; none for a link."""

    step: Change | ChangeRights
    data: bytes = b""


def find_own_remedies(machine: Machine, trace: Trace) -> Iterator[OwnRemedy]:
    """The steps that the faults of a program call for."""
    for fault in trace.faults:
        if fault.kind in OF_THE_SYSTEM:
            yield from _mend_list_of_system(machine, trace.program, fault)
            continue
        yield from _mend_copied_links(machine, fault)
        absent = [each.path for each in fault.searched if each.outcome is CandidateOutcome.ABSENT]
        if (moved := moved_folder(machine, trace.program, absent)) is not None:
            yield _link(machine, moved.gone, moved.now, say("restore.its-application-was-moved-and-is"))
        if fault.kind in {"program", "interpreter"} and fault.verdict is Verdict.BLOCKED:
            blocked = [each.path for each in fault.searched if each.outcome is CandidateOutcome.BLOCKED]
            yield from _let_run(machine, fault.path or next(iter(blocked), trace.program))
        if fault.kind == "shared-library" and fault.verdict is Verdict.MISSING:
            links = list(_bring_back_link(machine, fault, absent))
            yield from links or _mend_search(machine, trace, fault)
        if fault.kind == "interpreter":
            yield from _mend_environment(machine, absent)
            yield from _mend_line_ends(machine, fault)


def _mend_list_of_system(machine: Machine, program: MachinePath, fault: Component) -> Iterator[OwnRemedy]:
    """The steps for what the system keeps besides packages: alternatives, certificates, the database, a list."""
    if fault.kind == ALTERNATIVE:
        yield from _mend_alternative(machine, program)
    elif fault.kind == BUNDLE_OF_CERTIFICATES and (data := bundle_of(machine)):
        because = MISSING if is_gone(machine, BUNDLE) else fault.reason
        yield _content_step(BUNDLE, data, because, say("restore.as-the-machine-list-of-accepted"))
    elif fault.kind == PRELOAD_LIST:
        detail = say("restore.without-what-cannot-be-loaded")
        yield _content_step(PRELOAD, without_unloadable(machine), fault.reason, detail)
    elif fault.kind == DATABASE:
        yield from _bring_back_database(machine)


def _link(
    machine: Machine,
    place: MachinePath,
    target: MachinePath,
    because: str,
    *,
    text: str = "",
    names: tuple[MachinePath, ...] = (),
) -> OwnRemedy:
    """A link at a place; ``text`` is its content, or the target's path where it is empty."""
    step = OwnLink(
        path=machine.own_place(place),
        because=because,
        stood=not is_gone(machine, place),
        sha256="",
        size=0,
        link=text or target,
        leads_to=machine.real(target),
        names=names,
    )
    return OwnRemedy(step)


def _mend_alternative(machine: Machine, program: MachinePath) -> Iterator[OwnRemedy]:
    alternative = find_alternative(machine, program)
    if alternative is None or not alternative.choices:
        return
    choice = alternative.choices[0]
    if machine.look(alternative.through).kind is EntryKind.ABSENT:
        because = _why_link(machine, alternative.through)
        yield _link(machine, alternative.through, choice, because, names=(machine.own_place(alternative.link),))
    if machine.look(alternative.link).kind is EntryKind.ABSENT:
        target = dangling_target(machine, alternative.link)
        if target is None:
            yield _link(
                machine, alternative.link, choice, _why_link(machine, alternative.link), text=alternative.through
            )


def _why_link(machine: Machine, path: MachinePath) -> str:
    return MISSING if is_gone(machine, path) else LEADS_TO_NOTHING


def _bring_back_database(machine: Machine) -> Iterator[OwnRemedy]:
    damage = find_database_damage(machine)
    if damage is not None and damage.backup is not None:
        data = machine.content(damage.backup, _MOST_DATABASE)
        yield _content_step(
            STATUS,
            data,
            damage.why,
            say("restore.as-has-it-with-packages", backup=damage.backup, packages=damage.packages),
        )


def _content_step(path: MachinePath, data: bytes, because: str, detail: str) -> OwnRemedy:
    digest = hashlib.sha256(data).hexdigest()
    return OwnRemedy(Change(path=path, because=because, sha256=digest, size=len(data), details=(detail,)), data)


def _mend_search(machine: Machine, trace: Trace, fault: Component) -> Iterator[OwnRemedy]:
    """The loader's cache as its settings ask for it; if need be with the folder in which the application has a copy."""
    if machine.platform is not Platform.LINUX or trace.format is not Format.ELF or not _is_gone_or_file(machine, CACHE):
        return
    further: tuple[str, ...] = ()
    if not any(each.outcome is CandidateOutcome.NOT_SEARCHED for each in fault.searched):
        folder = _folder_of_application(machine, trace, fault)
        if folder is None:
            return
        further = (folder,)
    entries = find_cache_entries(machine, further)
    if entries is None:
        return
    if further:
        own = [entry.name for entry in entries if posixpath.dirname(entry.path) == further[0]]
        if not own or {entry.name for entry in find_cache_entries(machine) or ()} & set(own):
            return  # it would change which library other programs find
        setting = machine.join(CONFIGURATION_FOLDER, f"{trace.program.split('/')[2]}.conf")
        if not is_gone(machine, setting):
            return
        named = say("restore.it-names-the-folder", folder=further[0])
        yield _content_step(setting, f"{further[0]}\n".encode(), MISSING, named)
    because = MISSING if is_gone(machine, CACHE) else say("restore.it-does-not-list-the-library", name=fault.name)
    yield _content_step(
        CACHE, write_ld_cache(entries), because, say("restore.as-the-settings-of-the-loader-ask", count=len(entries))
    )


def _is_gone_or_file(machine: Machine, path: MachinePath) -> bool:
    """Whether a file can be put at a place without anything else in the way."""
    return is_gone(machine, path) or machine.look(path).kind is EntryKind.FILE


def _folder_of_application(machine: Machine, trace: Trace, fault: Component) -> str | None:
    """The folder below the application's own in which it has a copy of a library, if it lies apart from the system."""
    parts = trace.program.split("/")
    own = "/".join(parts[:3])
    if len(parts) < _PARTS_OF_APPLICATION or f"/{parts[1]}" not in _APART or not machine.names(CONFIGURATION_FOLDER):
        return None
    name = machine.fold(machine.paths.basename(fault.name))
    copies = find_copies(machine, trace, {name}).get(name, [])
    folders = (machine.folder_of(each) for each in copies if each.startswith(f"{own}/"))
    return next((folder for folder in folders if _is_of_administrator(machine, folder)), None)


def _is_of_administrator(machine: Machine, folder: MachinePath) -> bool:
    """Whether only the administrator can put a library there that all programs would load."""
    while True:
        rights = machine.rights(folder)
        if rights is not None and (rights.uid != 0 or (rights.mode & _WRITTEN_BY_OTHERS and not rights.mode & _STICKY)):
            return False
        if folder == machine.folder_of(folder):
            return True
        folder = machine.folder_of(folder)


def _mend_copied_links(machine: Machine, fault: Component) -> Iterator[OwnRemedy]:
    found = [each.path for each in fault.searched if each.outcome is not CandidateOutcome.ABSENT]
    for path in dict.fromkeys((*found, *([fault.path] if fault.path is not None else []))):
        if (beside := link_in_text(machine, path)) is not None:
            because = say("restore.it-holds-the-name-of-another")
            yield _link(machine, path, beside, because, text=machine.paths.basename(beside))


def _bring_back_link(machine: Machine, fault: Component, absent: list[MachinePath]) -> Iterator[OwnRemedy]:
    """The link by which a library is found, where only that is gone."""
    for path in absent:
        if (beside := file_without_link(machine, path, fault.wanted_architecture)) is not None:
            yield _link(machine, path, beside, MISSING, text=machine.paths.basename(beside))
            return


def _mend_environment(machine: Machine, absent: list[MachinePath]) -> Iterator[OwnRemedy]:
    """The link by which a virtual environment leads to its Python, as its own settings say. Source: PEP 405."""
    for path in absent:
        python = find_base(machine, path)
        if python is not None and machine.own_place(path) != machine.own_place(python):
            yield _link(machine, path, python, _why_link(machine, path))


def _let_run(machine: Machine, program: MachinePath) -> Iterator[OwnRemedy]:
    """The right to run a program for all who may read it, where no user has it."""
    rights = machine.rights(program)
    if rights is not None and not rights.mode & _RUN_ALL:
        because = say("restore.no-user-may-execute-it")
        yield OwnRemedy(allow(machine, machine.real(program), rights.mode >> 2 & _RUN_ALL, because))


def _mend_line_ends(machine: Machine, fault: Component) -> Iterator[OwnRemedy]:
    """The same script with the line ends that its interpreter reads."""
    script = fault.needed_by[0] if fault.needed_by else None
    entry = machine.look(script) if script is not None else None
    if script is None or entry is None or entry.kind is not EntryKind.FILE or entry.size > _MOST_SCRIPT:
        return
    data = machine.content(script, _MOST_SCRIPT)
    first, _, _ = data.partition(b"\n")
    if not first.startswith(b"#!") or not first.endswith(b"\r") or b"\0" in data:
        return
    mended = data.replace(b"\r\n", b"\n")
    detail = say("restore.line-ends-nothing-else-of-it", count=data.count(bytes((13, 10))))
    yield _content_step(machine.real(script), mended, say("restore.its-lines-end-as-those-of"), detail)
