"""Judge what a loader has found: the verdict on each need, the reason, and the chain from the program to it."""

import shlex
from collections import deque
from collections.abc import Iterable
from functools import cached_property

import msgspec

from fundamen.evidence.authority import Testimony, remarks_of, weigh
from fundamen.loaders.load_map import STARTED, Candidate, CandidateOutcome, LoadMap, Resolution
from fundamen.machine.access import Runner, find_barrier, mount_without_running, user_of
from fundamen.machine.links import dangling_target
from fundamen.machine.machine import Machine
from fundamen.machine.observation import Observation
from fundamen.machine.stated_version import version_of
from fundamen.messages import UNSAID, Message, join_clauses, say
from fundamen.model.architecture import Platform
from fundamen.model.binary import Binary, BinaryKind, Format, Necessity
from fundamen.model.paths import HostPath, MachinePath
from fundamen.model.verdict import Verdict
from fundamen.trace.astray import file_without_link, link_in_text, moved_folder
from fundamen.trace.records import LOADED, STRUCTURE, Component, Evidence, LoadedFiles, Trace
from fundamen.trace.symptom import DLL_INIT_FAILED, status_in_words

_BY_PLACE = {"interpreter", "loader"}  # what is sought at certain paths, not by its name
_APART = {"framework", "side-by-side-assembly"}  # what is reported apart from the file that stands for it
_LOADED_BY_ITSELF = {"shared-library", "loader"}
_PASSED_OVER = {
    CandidateOutcome.UNTRUSTED: Verdict.UNTRUSTED,
    CandidateOutcome.SWITCHED_OFF: Verdict.BLOCKED,
    CandidateOutcome.OLDER_VERSION: Verdict.OUTDATED,
    CandidateOutcome.OTHER_VERSION: Verdict.MISSING,  # what is there stands in for nothing
}
_MOST_LINKS = 8  # places of a missing component at which a link that leads to nothing is looked for
_MOST_FUNCTIONS = 4  # that are named of those that a library does not offer


class _Finding(msgspec.Struct, frozen=True):
    verdict: Verdict
    reason: Message
    evidence: tuple[Evidence, ...] = ()
    unoffered: tuple[str, ...] = ()


class Judging:
    """Judges each need of one program: its verdict, the reason, the shortest chain to it."""

    def __init__(
        self,
        machine: Machine,
        loading: LoadMap,
        testimonies: dict[MachinePath, list[Testimony]],
        observation: Observation | None,
    ) -> None:
        """Prepare to judge.

        Args:
            machine: where the program lies.
            loading: what its loader would do.
            testimonies: what the authorities say of each file.
            observation: of its run, if it was run.
        """
        self._machine = machine
        self._loading = loading
        self._testimonies = testimonies
        self._observation = observation
        self._loaded = {machine.fold(machine.real(path)) for path in observation.loaded} if observation else set()
        self._failed = {machine.fold(name): status for name, status in observation.failed} if observation else {}

    @cached_property
    def _chains(self) -> dict[MachinePath, tuple[MachinePath, ...]]:
        return _chains(self._loading)

    @cached_property
    def _user(self) -> Runner | None:
        """The user for whom the program is judged."""
        return user_of(self._machine, self._loading.program, self._loading.run_as)

    @property
    def _user_is_named(self) -> bool:
        return self._machine.run_as is not None or self._loading.run_as is not None

    def _barrier(self, path: MachinePath, *, runs: bool = False) -> Message:
        """Why the user may not read or run a file; empty where the user may."""
        user = self._user
        barrier = find_barrier(self._machine, path, user, runs=runs) if user is not None else None
        return barrier.reason(user) if barrier is not None and user is not None else UNSAID

    @cached_property
    def _required_files(self) -> set[MachinePath]:
        return _required_files(self._loading)

    def trace(self) -> Trace:
        """Judge everything; the components in the loader's order, those that stand for one file together."""
        loading = self._loading
        judged = [self._program(), *map(self._component, self._groups(loading.resolutions))]
        components, remarks = tuple(judged), tuple[Message, ...]()
        if self._machine.platform is Platform.WINDOWS:
            from fundamen.trace.remarks import remarks_on_machine, with_remarks  # noqa: PLC0415 - it has none on Linux

            components = with_remarks(self._machine, judged)
            remarks = remarks_on_machine(self._machine, judged)
        return Trace(
            program=loading.program,
            format=loading.binary.format,
            architecture=loading.architecture,
            components=components,
            observation=self._observation,
            remarks=remarks,
            not_followed=loading.not_followed,
            run_as=loading.run_as,
        )

    def find_faults(self) -> LoadedFiles:
        """Judge only what may be at fault."""
        loading = self._loading
        if self._machine.platform is Platform.WINDOWS or self._observation is not None:
            faults = self.trace().faults
        else:
            sound = self._plainly_sound()
            doubtful = [each for each in loading.resolutions if each.path not in sound or each.kind in _APART]
            judged = (self._program(), *map(self._component, self._groups(doubtful)))
            faults = tuple(component for component in judged if component.is_fault)
        files = dict.fromkeys(each.path for each in loading.resolutions if each.path is not None)
        return LoadedFiles(loading.program, (loading.program, *files), faults)

    def _plainly_sound(self) -> set[MachinePath]:
        """The loaded files that are whole, that no one calls wrong, and that offer all that is asked of them."""
        lacking = {gap.library for gap in self._loading.unoffered}
        return {
            path
            for path, binary in self._loading.loaded.items()
            if not binary.problems and path not in lacking and not self._is_doubted(path) and not self._barrier(path)
        }

    def _is_doubted(self, path: MachinePath) -> bool:
        counts = weigh(self._testimonies.get(path, ()))
        return counts is not None and counts.says.verdict.is_fault

    def _further_said(self, path: MachinePath | None) -> tuple[Message, ...]:
        return remarks_of(self._testimonies.get(path, ())) if path is not None else ()

    def _groups(self, resolutions: Iterable[Resolution]) -> Iterable[list[Resolution]]:
        """The resolutions that stand for one file, together."""
        groups: dict[str, list[Resolution]] = {}
        for resolution in resolutions:
            key = resolution.path or f"?{resolution.kind} {self._machine.fold(resolution.name)}"
            if resolution.kind in _APART:
                key = f"{resolution.kind} {resolution.name}"
            groups.setdefault(key, []).append(resolution)
        return groups.values()

    def _program(self) -> Component:
        path, binary = self._loading.program, self._loading.binary
        finding, mount = self._judge_file(path, binary), self._mount_without_running(path)
        if self._loading.runs_here and not finding.verdict.is_fault:
            reason = say(
                "trace.it-is-for-and-this-machine",
                architecture=self._loading.architecture,
                runs_here=self._loading.runs_here,
            )
            finding = _Finding(Verdict.WRONG_ARCHITECTURE, reason, finding.evidence)
        elif self._loading.untrusted and not finding.verdict.is_fault:
            finding = _Finding(Verdict.UNTRUSTED, say("trace.it", untrusted=self._loading.untrusted), finding.evidence)
        elif self._loading.switched_off and not finding.verdict.is_fault:
            finding = _Finding(Verdict.BLOCKED, self._loading.switched_off, finding.evidence)
        elif mount is not None and not finding.verdict.is_fault:
            finding = _Finding(Verdict.BLOCKED, say("trace.its-file-system-is-mounted-noexec"), finding.evidence)
        may_be_run = self._may_be_run()
        if not may_be_run and not finding.verdict.is_fault:
            finding = _Finding(Verdict.BLOCKED, say("trace.no-user-may-execute-it-mode"), finding.evidence)
        elif (
            not finding.verdict.is_fault
            and binary.format is not Format.LAUNCHER  # which its user need not read
            and (why := self._barrier(path, runs=binary.kind is BinaryKind.PROGRAM))
        ):
            finding = _Finding(Verdict.BLOCKED, why, finding.evidence)
        return Component(
            name=self._machine.paths.basename(path),
            kind="program" if binary.kind is BinaryKind.PROGRAM else "shared-library",
            verdict=finding.verdict,
            reason=finding.reason,
            how=Necessity.REQUIRED,
            path=path,
            wanted_architecture=self._loading.architecture,
            architecture=binary.architecture,
            version=version_of(self._machine, path, binary),
            unoffered=(),
            needed_by=(),
            chain=(),
            evidence=finding.evidence,
            searched=(),
            sought_as=(self._machine.paths.basename(path),),
            remedy=f"mount -o remount,exec {shlex.quote(mount)}" if mount is not None else "",
            remarks=(*self._loading.remarks, *self._further_said(path)),
        )

    def _mount_without_running(self, path: MachinePath) -> HostPath | None:
        """Where the file system is mounted that a program is on and that nothing is run from; None for any other."""
        is_run = self._loading.binary.format in {Format.ELF, Format.SCRIPT}
        is_program = self._loading.binary.kind is BinaryKind.PROGRAM
        return mount_without_running(self._machine, path) if is_run and is_program else None

    def _may_be_run(self) -> bool:
        """Whether the program's mode lets someone run it; on Windows no mode does, and Java reads its archives."""
        loading = self._loading
        if self._machine.platform is Platform.WINDOWS or loading.binary.format in {Format.JAVA, Format.LAUNCHER}:
            return True
        return loading.binary.kind is not BinaryKind.PROGRAM or self._machine.look(loading.program).is_executable

    def _component(self, resolutions: list[Resolution]) -> Component:
        first = resolutions[0]
        path = first.path
        found = self._loading.loaded.get(path) if path is not None else None
        finding = self._judge(resolutions)
        # An interpreter was found by our own PATH, and an ordinary user has another one.
        is_judged = path is not None and (first.kind in _LOADED_BY_ITSELF or self._user_is_named)
        if is_judged and path is not None and not finding.verdict.is_fault and (why := self._barrier(path)):
            finding = _Finding(Verdict.BLOCKED, why, finding.evidence)
        is_refusing = path is not None and self._failed.get(self._machine.fold(first.name)) == DLL_INIT_FAILED
        if is_refusing and not finding.verdict.is_fault:
            reason = say("trace.it-was-loaded-as-the-program")
            finding = _Finding(Verdict.BLOCKED, reason, finding.evidence)
        needers = dict.fromkeys(resolution.needed_by for resolution in resolutions)
        is_required = any(r.how is Necessity.REQUIRED and r.needed_by in self._required_files for r in resolutions)
        is_optional = all(resolution.how is Necessity.OPTIONAL for resolution in resolutions)
        return Component(
            name=first.name,
            kind=next((r.kind for r in resolutions if r.kind != "shared-library"), "shared-library"),
            verdict=finding.verdict,
            reason=finding.reason,
            how=Necessity.REQUIRED if is_required else Necessity.OPTIONAL if is_optional else Necessity.DELAYED,
            path=path,
            wanted_architecture=self._loading.architecture,
            architecture=found.architecture if found is not None else None,
            version=version_of(self._machine, path, found) if path is not None and found is not None else None,
            unoffered=finding.unoffered,
            needed_by=tuple(needers),
            chain=min((self._chains[needer] for needer in needers if needer in self._chains), key=len, default=()),
            evidence=finding.evidence,
            searched=next((r.candidates for r in resolutions if r.candidates), ()),
            gives_up_with=status_in_words(DLL_INIT_FAILED) if is_refusing else UNSAID if path else first.gives_up_with,
            sought_as=first.sought_as or self._sought_as(first),
            sought_versions=first.sought_versions,
            observed=self._observation_of(first.name, path),
            asked_by=self._asked_by(first.name, path),
            remarks=(*self._lacks_later(path), *self._further_said(path)),
            remedy=first.remedy,
        )

    def _sought_as(self, resolution: Resolution) -> tuple[str, ...]:
        """Names of the missing file; of an interpreter its places first: it may be a link there."""
        name = self._machine.paths.basename(resolution.name)
        is_by_place = resolution.kind in _BY_PLACE or (resolution.kind == STARTED and resolution.name.startswith("/"))
        places = [candidate.path for candidate in resolution.candidates if is_by_place]
        # A package may spell a path with or without /usr, where the machine has merged the two.
        others = [p.removeprefix("/usr") if p.startswith("/usr/") else f"/usr{p}" for p in places if p[0] == "/"]
        return tuple(dict.fromkeys((*places, *others, name)))

    def _observation_of(self, name: str, path: MachinePath | None) -> Message:
        """The observation of a component as the program ran; empty for none."""
        if self._observation is None:
            return UNSAID
        folded = self._machine.fold(name)
        status = self._failed.get(folded)
        if folded in self._failed and status is None:
            return say("trace.asked-for")
        if status is not None:
            code = "trace.loaded-and-refused-to-initialise" if status == DLL_INIT_FAILED else "trace.asked-for-in-vain"
            return say(code, status=status_in_words(status))
        return say(LOADED) if path is not None and self._machine.fold(path) in self._loaded else UNSAID

    def _asked_by(self, name: str, path: MachinePath | None) -> str:
        """Whose code was seen to ask for a component, by its path or by its name."""
        askers = dict(self._observation.askers) if self._observation is not None else {}
        own = (name, path or name, self._machine.paths.basename(path or name))
        return next((askers[each] for each in own if each in askers), "")

    def _judge(self, resolutions: list[Resolution]) -> _Finding:
        first = resolutions[0]
        if first.kind == "side-by-side-assembly":
            return self._judge_assembly(first)
        if first.path is not None:
            binary = (
                self._loading.binary if first.path == self._loading.program else self._loading.loaded.get(first.path)
            )
            if binary is None:  # a folder, that of a framework
                return _Finding(Verdict.UNVERIFIED, first.decided)
            finding = self._judge_file(first.path, binary)
            if finding.verdict.is_fault:
                return finding
            if first.decided:
                finding = msgspec.structs.replace(finding, reason=join_clauses(finding.reason, first.decided))
            return self._judge_offer(first.path, finding)
        if first.provided_by_system:
            return _Finding(Verdict.UNVERIFIED, first.provided_by_system)
        return self._judge_unfound(first)

    def _judge_assembly(self, resolution: Resolution) -> _Finding:
        """An assembly stands where its manifest does; its files are judged one by one, as they are needed."""
        if resolution.path is not None:
            manifest = say("trace.its-manifest-is", path=resolution.path)
            taken = (each.detail for each in resolution.candidates if each.outcome is CandidateOutcome.TAKEN)
            return _Finding(Verdict.UNVERIFIED, join_clauses(next(filter(None, taken), UNSAID), manifest))
        for outcome, verdict in (
            (CandidateOutcome.OLDER_VERSION, Verdict.OUTDATED),
            (CandidateOutcome.OTHER_VERSION, Verdict.MISSING),
            (CandidateOutcome.OTHER_ARCHITECTURE, Verdict.WRONG_ARCHITECTURE),
        ):
            found = [candidate.detail for candidate in resolution.candidates if candidate.outcome is outcome]
            if found:
                return _Finding(verdict, say("trace.what-is-installed", found=" and ".join(dict.fromkeys(found))))
        reason = say("trace.it-is-installed-neither-for-all")
        return _Finding(Verdict.MISSING, say("trace.side-by-side-configuration-is-incorrect", reason=reason))

    def _judge_offer(self, path: MachinePath, finding: _Finding) -> _Finding:
        """Whether a library that is sound in itself offers all that is called in it before the program starts."""
        gaps = [
            gap
            for gap in self._loading.unoffered
            if gap.library == path and gap.how is Necessity.REQUIRED and gap.importer in self._required_files
        ]
        if not gaps:
            return finding
        are_versions = any(gap.are_versions for gap in gaps)
        verb, lack = ("asks for", say("trace.does-not-define-all-versions-that"))
        if not are_versions:
            verb, lack = ("calls", say("trace.does-not-offer-all-that-is"))
        calls = [
            f"{self._machine.paths.basename(gap.importer)} {verb} {_function_names(gap.functions)}" for gap in gaps
        ]
        reason = say("trace.it-lacks-what-is-called", lack=lack, calls="; ".join(calls))
        unoffered = tuple(dict.fromkeys(function for gap in gaps for function in gap.functions))
        if all(gap.right_at is not None for gap in gaps):
            reason = say("trace.has-them-and-is-found-only", reason=reason, right_at=gaps[0].right_at)
            return _Finding(Verdict.SHADOWED, reason, finding.evidence, unoffered)
        return _Finding(Verdict.OUTDATED, reason, finding.evidence, unoffered)

    def _lacks_later(self, path: MachinePath | None) -> tuple[Message, ...]:
        """Functions that a library lacks and that are bound only when they are called."""
        if not self._loading.unoffered:
            return ()
        gaps = [gap for gap in self._loading.unoffered if gap.library == path and gap.how is Necessity.DELAYED]
        callers = [self._machine.paths.basename(gap.importer) for gap in gaps]
        return tuple(
            say("trace.it-does-not-offer-which-may", functions=_function_names(gap.functions), caller=caller)
            for gap, caller in zip(gaps, callers, strict=True)
        )

    def _judge_unfound(self, resolution: Resolution) -> _Finding:
        """Say why the loader ends with nothing: the most telling of the candidates that it passed over."""
        by_outcome = {candidate.outcome: candidate for candidate in reversed(resolution.candidates)}
        if refused := by_outcome.get(CandidateOutcome.REFUSED):
            return self._judge_refused(refused)
        if other := by_outcome.get(CandidateOutcome.OTHER_ARCHITECTURE):
            wanted = self._loading.architecture
            return _Finding(
                Verdict.WRONG_ARCHITECTURE,
                say("trace.what-the-loader-finds-and-the", detail=other.detail, wanted=wanted),
            )
        for outcome, verdict in _PASSED_OVER.items():
            if passed := by_outcome.get(outcome):
                return self._judge_passed_over(
                    resolution, passed, verdict, by_outcome.get(CandidateOutcome.NOT_SEARCHED)
                )
        if blocked := by_outcome.get(CandidateOutcome.BLOCKED):
            return _Finding(Verdict.BLOCKED, say("common.said-of", subject=blocked.path, said=blocked.detail))
        return _Finding(Verdict.MISSING, self._why_missing(resolution, by_outcome.get(CandidateOutcome.NOT_SEARCHED)))

    def _judge_refused(self, refused: Candidate) -> _Finding:
        """Judge a file at which the loader stops."""
        if refused.architecture not in {None, self._loading.architecture}:
            return _Finding(
                Verdict.WRONG_ARCHITECTURE, say("common.of-a-place", place=refused.path, said=refused.detail)
            )
        if (beside := link_in_text(self._machine, refused.path)) is not None:
            name = self._machine.paths.basename(beside)
            reason = say("trace.holds-only-the-name-as-a", path=refused.path, name=name)
            return _Finding(Verdict.CORRUPT, reason)
        return _Finding(Verdict.CORRUPT, say("common.said-of", subject=refused.path, said=refused.detail))

    def _judge_passed_over(
        self, resolution: Resolution, passed: Candidate, verdict: Verdict, right: Candidate | None
    ) -> _Finding:
        """Judge a file that does not serve; perhaps another does, which is found later or not at all."""
        if passed.outcome is CandidateOutcome.OLDER_VERSION and right is not None:
            reason = say(
                "trace.is-found-first-and",
                path=passed.path,
                detail=passed.detail,
                other_path=right.path,
                other_detail=right.detail,
            )
            return _Finding(Verdict.SHADOWED, reason)
        found = say("common.of-a-place", place=passed.path, said=passed.detail)
        return _Finding(verdict, join_clauses(UNSAID if resolution.kind == "framework" else found, resolution.decided))

    def _why_missing(self, resolution: Resolution, elsewhere: Candidate | None) -> Message:
        if resolution.kind == "loader":
            wanted = self._loading.architecture
            return say("trace.the-loader-that-this-program-for", wanted=wanted)
        absent = [c.path for c in resolution.candidates if c.outcome is CandidateOutcome.ABSENT]
        for path in absent[:_MOST_LINKS]:
            if (target := dangling_target(self._machine, path)) is not None:
                return join_clauses(say("trace.is-a-link-to-which-is", path=path, target=target), resolution.decided)
        if resolution.decided:
            return resolution.decided
        if elsewhere is not None:
            return say("trace.a-copy-at", path=elsewhere.path, detail=elsewhere.detail)
        if reason := self._why_astray(absent[:_MOST_LINKS]):
            return reason
        count = len(absent)
        places = {
            0: say("trace.the-loader-has-no-folder-to"),
            1: say("trace.not-found-in-the-folder-that"),
        }
        return places.get(count, say("trace.not-found-in-the-folders-that", count=count))

    def _why_astray(self, absent: list[MachinePath]) -> Message:
        """Where the library lies after all, if only its link is gone or its application was moved; empty otherwise."""
        for path in absent:
            if (beside := file_without_link(self._machine, path, self._loading.architecture)) is not None:
                return say("trace.its-link-is-gone-beside-lies", path=path, beside=beside)
        if (moved := moved_folder(self._machine, self._loading.program, absent)) is not None:
            return say("trace.it-is-sought-in-which-is", gone=moved.gone, library=moved.library)
        return UNSAID

    def _judge_file(self, path: MachinePath, binary: Binary) -> _Finding:
        testimonies = self._testimonies.get(path, [])
        evidence = tuple(Evidence(t.speaker, t.detail) for t in testimonies)
        structure = tuple(Evidence(STRUCTURE, p.sentence) for p in binary.problems)
        if structure:
            is_cut = any(problem.is_cut for problem in binary.problems)
            reason = join_clauses(say("trace.the-file-is-truncated") if is_cut else UNSAID, structure[0].detail)
            return _Finding(Verdict.CORRUPT, reason, (*structure, *evidence))
        counts = weigh(testimonies)
        if counts is None:
            return _Finding(Verdict.UNVERIFIED, say("trace.no-trusted-source-knows-this-file"), evidence)
        return _Finding(counts.says.verdict, counts.sentence, evidence)


def _function_names(functions: tuple[str, ...]) -> str:
    shown_first = ", ".join(functions[:_MOST_FUNCTIONS])
    more = len(functions) - _MOST_FUNCTIONS
    return say("trace.and-more", shown_first=shown_first, more=more) if more > 0 else shown_first


def _chains(loading: LoadMap) -> dict[MachinePath, tuple[MachinePath, ...]]:
    """The shortest way from the program to each loaded file."""
    needs: dict[MachinePath, list[MachinePath]] = {}
    for resolution in loading.resolutions:
        if resolution.path is not None:
            needs.setdefault(resolution.needed_by, []).append(resolution.path)
    chains: dict[MachinePath, tuple[MachinePath, ...]] = {loading.program: (loading.program,)}
    waiting = deque([loading.program])
    while waiting:
        needer = waiting.popleft()
        for path in needs.get(needer, ()):
            if path not in chains:
                chains[path] = (*chains[needer], path)
                waiting.append(path)
    return chains


def _required_files(loading: LoadMap) -> set[MachinePath]:
    """The files that are loaded before the program's first instruction: those reached by required needs alone."""
    required = {loading.program}
    grown = True
    while grown:
        before = len(required)
        for resolution in loading.resolutions:
            if resolution.path and resolution.how is Necessity.REQUIRED and resolution.needed_by in required:
                required.add(resolution.path)
        grown = len(required) > before
    return required
