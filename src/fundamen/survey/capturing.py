"""Take the facts of a machine into one file: what tracing, inspecting, surveying and checking ask, with the answers.

The machine is examined as it always is, and whatever is asked of it on the way is written down; so the capture answers
the same questions in the same way. Rights that this account has not are reported as gaps, and make no capture fail.
"""

from collections.abc import Sequence
from contextlib import suppress
from datetime import datetime

import msgspec

from fundamen.evidence.authority import Authority
from fundamen.formats.capture_file import CaptureManifest, MachineFacts, SharedFault, Summary
from fundamen.machine.machine import Machine
from fundamen.machine.recording import RecordingMachine
from fundamen.messages import say
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath
from fundamen.prerequisites.checking import check_requirements
from fundamen.prerequisites.requirement import CheckContext
from fundamen.prerequisites.sheet import Sheet
from fundamen.survey.comparing import packages_of, roots_of, services_of, settings_of
from fundamen.survey.survey import Depth, Survey, SurveyListener, SurveyMemory, survey_machine
from fundamen.survey.walking import usual_folders
from fundamen.trace.hints import with_hints
from fundamen.trace.inspection import inspect_file
from fundamen.trace.trace import trace_program, trace_programs


class Wish(msgspec.Struct, frozen=True, kw_only=True):
    """The wanted content of a capture."""

    programs: tuple[MachinePath, ...] = ()
    sheets: tuple[Sheet, ...] = ()
    whole: bool = False  # the whole machine: every program that a survey looks at
    symbols: bool = False  # also which symbols no one defines
    most_bytes: int  # of files, that are taken in

    @property
    def in_words(self) -> tuple[str, ...]:
        """The same for people."""
        return (
            *([say("survey.the-whole-machine")] if self.whole else []),
            *(say("survey.the-program", path=path) for path in self.programs),
            *(say("survey.the-sheet", name=sheet.name) for sheet in self.sheets),
        )


class Taken(msgspec.Struct, frozen=True):
    """The content of a capture, before it is written."""

    manifest: CaptureManifest  # but for the digests
    facts: MachineFacts
    recording: RecordingMachine
    summary: Summary | None  # where it is of the whole machine


def take_capture(
    machine: Machine,
    wish: Wish,
    authorities: Sequence[Authority],
    asked: CheckContext,
    now: datetime,
    telling: SurveyListener,
) -> Taken:
    """Examine a machine, and write down what was asked of it.

    Args:
        machine: which.
        wish: what it is to be of.
        authorities: those who can speak of files; what they say is taken in by the digests that they ask for.
        asked: how requirements are checked.
        now: this moment, UTC.
        telling: is informed how far it is.

    Raises:
        UnreadableError: a program that was named cannot be read.
        UsageError: more would be taken in than was allowed.
    """
    recording = RecordingMachine(machine, wish.most_bytes)
    survey = _examine(recording, wish, authorities, asked, now, telling)
    facts = recording.finish()
    manifest = CaptureManifest(
        machine=machine.title,
        platform=machine.platform,
        was_running=machine.was_running,
        made_at=now,
        of=wish.in_words,
        files=len(facts.files),
        bytes=recording.size,
        left_out=tuple(recording.left_out),
        facts_sha256="",
        content_sha256="",
    )
    summary = _summary(machine, survey, now) if survey is not None else None
    return Taken(manifest, facts, recording, summary)


def _summary(machine: Machine, survey: Survey, now: datetime) -> Summary:
    try:
        components = packages_of(machine)
    except UnreadableError:
        components = {}
    return Summary(
        machine=machine.title,
        platform=machine.platform,
        made_at=now,
        programs=survey.needs.programs,
        components=components,
        faults=tuple(
            SharedFault(cause.title, cause.component.verdict, len(cause.programs)) for cause in survey.needs.causes
        ),
    )


def _examine(
    recording: RecordingMachine,
    wish: Wish,
    authorities: Sequence[Authority],
    asked: CheckContext,
    now: datetime,
    telling: SurveyListener,
) -> Survey | None:
    """Ask all that is wished; give the survey where one was made."""
    survey = _take_whole(recording, authorities, now, telling) if wish.whole else None
    programs = list(dict.fromkeys((*wish.programs, *(survey.stopped if survey is not None else ()))))
    rounds = (False, True) if wish.symbols else (False,)
    telling.begin("Tracing programs", len(rounds) * len(programs))
    for symbols in rounds:
        traces = trace_programs(recording, programs, authorities, symbols=symbols)
        for program, trace in zip(programs, traces, strict=True):
            if isinstance(trace, UnreadableError):
                if program in wish.programs:
                    raise trace
            else:
                with_hints(recording, trace, authorities, str(program))
            telling.more(1)
    for program in wish.programs:
        _take_closely(recording, program)
    for sheet in wish.sheets:
        check_requirements(sheet.requirements, msgspec.structs.replace(asked, machine=recording))
    return survey


def _take_whole(
    recording: RecordingMachine, authorities: Sequence[Authority], now: datetime, telling: SurveyListener
) -> Survey:
    """Record the answers for a survey and a comparison of the whole machine."""
    memory = SurveyMemory({}, lambda _found: None)
    folders = usual_folders(recording)
    found = survey_machine(recording, folders, Depth.USED, lambda: authorities, memory, now, telling)
    for find in (packages_of, roots_of, services_of, settings_of):
        with suppress(UnreadableError):  # a gap, which a comparison tells
            find(recording)
    return found


def _take_closely(recording: RecordingMachine, program: MachinePath) -> None:
    """Record the answers for one program: its facts, and the digests for comparisons with another machine."""
    inspect_file(recording, program)
    for component in trace_program(recording, program).components:
        with suppress(UnreadableError, OSError):
            if component.path is not None:
                recording.digest(component.path, "sha256")
