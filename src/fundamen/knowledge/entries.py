"""Read and arrange the known messages and codes.

A data file is TOML with the tables ``message``, ``code`` and ``space``; docs/formats/knowledge.md describes them.
"""

import functools
import os
import tomllib
from collections.abc import Sequence
from enum import StrEnum

import msgspec

from fundamen.knowledge.sentence import Sentence, read_sentence
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath

_OWN = os.path.join(os.path.dirname(os.path.abspath(__file__)), "data")
_LARGEST_FILE, _MOST_FILES, _MOST_ENTRIES = 4 << 20, 200, 20_000


class LineRole(StrEnum):
    """Roles of a line in the story of a failure."""

    CAUSE = "cause"  # it names what is wrong
    FAILURE = "failure"  # it tells which step has failed
    FOLLOWS = "follows"  # it only passes on that something has failed before
    BEGINS = "begins"  # a run starts here: what stands above belongs to another
    DONE = "done"  # a run has ended well here


class Sign(StrEnum):
    """Signs on the examined machine that support a cause."""

    OTHER_ARCHITECTURE = "other-architecture"  # the component is there, for another architecture
    ELSEWHERE = "elsewhere"  # it is there, where the program does not look
    DAMAGED = "damaged"  # it is there, and its bytes are wrong
    ABSENT = "absent"  # it is nowhere
    SIMILAR_NAME = "similar-name"  # a component with nearly its name is there
    OTHER_VERSION = "other-version"


class LikelyCause(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    """A likely cause of a message."""

    cause: str
    sign: Sign | None = None


class KnownMessage(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A family of messages that mean the same."""

    id: str
    says: tuple[str, ...]  # sentences, the most telling first
    means: str  # in one sentence, with holes
    role: LineRole = LineRole.CAUSE
    about: str = "failed"  # a verdict's word, or another of ABOUT
    likely: tuple[str | LikelyCause, ...] = ()  # causes, the likeliest first
    next: tuple[str, ...] = ()  # commands, and sentences that end with a full stop; with holes
    files: tuple[str, ...] = ()  # ends of paths of what may be gone, with holes: {name}, {name:lower}, {name:first}
    plug_ins: tuple[str, ...] = ()  # below a folder of libraries, with holes; parts may be patterns
    packages: tuple[str, ...] = ()  # of Debian, with holes: {name:package}, {name:prefix}, {name:top}
    said_by: tuple[str, ...] = ()  # programs that say it without their name, or load the library that does
    source: str  # who says it, and where that is written down
    samples: tuple[str, ...]  # lines of our own that say it


class Code(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A status, an error number or a signal."""

    space: str  # in which it has this meaning
    value: int
    name: str
    means: str
    role: LineRole = LineRole.CAUSE
    about: str = "failed"
    likely: tuple[str | LikelyCause, ...] = ()
    next: tuple[str, ...] = ()
    source: str
    samples: tuple[str, ...]

    @property
    def id(self) -> str:
        """Under which it is distinguished from all others."""
        return f"{self.space}:{self.name}"


class Space(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True):
    """A set of codes that one party has numbered."""

    name: str
    title: str
    contexts: tuple[str, ...] = ()  # sentences around a decimal number that make it one of these
    stands_alone: bool = False  # whether eight hexadecimal digits, or the same as a decimal number, are enough


ABOUT = frozenset(
    {
        "missing",
        "wrong-architecture",
        "corrupt",
        "outdated",
        "untrusted",
        "blocked",
        "shadowed",
        "full",
        "unreachable",
        "setting",
        "conflict",
        "failed",
        "ended",
    }
)


class Knowledge(msgspec.Struct, frozen=True):
    """All that is known, arranged for looking up."""

    messages: tuple[tuple[KnownMessage, tuple[Sentence, ...]], ...]
    codes: dict[tuple[str, int], Code]
    named: dict[str, Code]  # by its name
    alone: dict[int, Code]  # by its value, of the spaces whose codes stand alone
    contexts: tuple[tuple[str, Sentence], ...]  # (space, sentence)
    spaces: dict[str, Space]

    def code(self, space: str, value: int) -> Code | None:
        """The code of a space with a value; None where it is not known."""
        return self.codes.get((space, value))


class _File(msgspec.Struct, frozen=True, forbid_unknown_fields=True):
    message: tuple[KnownMessage, ...] = ()
    code: tuple[Code, ...] = ()
    space: tuple[Space, ...] = ()


def load_knowledge(folders: Sequence[HostPath] = ()) -> Knowledge:
    """Read our own data files, and an organisation's.

    Args:
        folders: of further files; each of their entries is checked against its own samples.

    Raises:
        UnreadableError: a file cannot be read, or an entry breaks a rule; it says which.
    """
    if not folders:
        return _own_knowledge()
    further = [(path, _read(path)) for folder in folders for path in _list_files(folder)]
    known = _arrange_knowledge([*_own_files(), *further])
    for path, file in further:
        check_entries(known, path, (*file.message, *file.code))
    return known


@functools.cache
def _own_files() -> tuple[tuple[str, _File], ...]:
    return tuple((path, _read(path)) for path in _list_files(HostPath(_OWN)))


@functools.cache
def _own_knowledge() -> Knowledge:
    return _arrange_knowledge(_own_files())


def check_entries(known: Knowledge, path: str, entries: Sequence[KnownMessage | Code]) -> None:
    """Make sure that each entry is found in its own samples, and says what it must.

    Raises:
        UnreadableError: one is not.
    """
    for entry in entries:
        if entry.about not in ABOUT:
            raise _refusal(path, f"{entry.id} is about {entry.about!r}; there are {', '.join(sorted(ABOUT))}")
        if not entry.samples or not entry.means.strip():
            raise _refusal(path, f"{entry.id} has no sample, or does not say what it means")
        if isinstance(entry, KnownMessage):
            sentences = next(sentences for message, sentences in known.messages if message is entry)
            for sample in entry.samples:
                if not any(sentence.find(" ".join(sample.split())) is not None for sentence in sentences):
                    raise _refusal(path, f"{entry.id} is not found in its own sample {sample[:80]!r}")


def _list_files(folder: HostPath) -> list[str]:
    try:
        names = sorted(name for name in os.listdir(folder) if name.endswith(".toml"))
    except OSError as error:
        raise UnreadableError(
            what=f"The knowledge in {printable(folder)} cannot be read",
            why=error.strerror or str(error),
            do="Name a folder with files of messages and codes (*.toml).",
        ) from error
    if len(names) > _MOST_FILES:
        raise _refusal(folder, f"it has more than {_MOST_FILES} files")
    return [os.path.join(folder, name) for name in names]


def _read(path: str) -> _File:
    try:
        with open(path, "rb") as file:
            data = file.read(_LARGEST_FILE + 1)
        if len(data) > _LARGEST_FILE:
            raise _refusal(path, f"it is larger than {_LARGEST_FILE >> 20} MiB")
        return msgspec.convert(tomllib.loads(data.decode()), _File)
    except OSError as error:
        raise _refusal(path, error.strerror or str(error)) from error
    except (UnicodeDecodeError, tomllib.TOMLDecodeError, msgspec.ValidationError, RecursionError) as error:
        raise _refusal(path, str(error)) from error


def _arrange_knowledge(files: Sequence[tuple[str, _File]]) -> Knowledge:
    messages: dict[str, tuple[KnownMessage, tuple[Sentence, ...]]] = {}
    codes: dict[tuple[str, int], Code] = {}
    spaces: dict[str, Space] = {}
    for path, file in files:
        try:
            for space in file.space:
                spaces[space.name] = space
            for message in file.message:
                if message.id in messages or not message.says:
                    raise _refusal(path, f"the message {message.id} is defined twice, or has no text")
                messages[message.id] = (message, tuple(map(read_sentence, message.says)))
            for code in file.code:
                if (code.space, code.value) in codes:
                    raise _refusal(path, f"the code {code.value} of {code.space} is defined twice")
                codes[code.space, code.value] = code
        except UsageError as error:
            raise _refusal(path, f"{error.what}: {error.why}") from error
    if unknown := {space for space, _ in codes} - set(spaces):
        raise _refusal(files[-1][0], f"no space is called {', '.join(sorted(unknown))}")
    if len(messages) + len(codes) > _MOST_ENTRIES:
        raise _refusal(files[-1][0], f"with it there are more than {_MOST_ENTRIES} entries")
    return Knowledge(
        messages=tuple(messages.values()),
        codes=codes,
        named={code.name: code for code in codes.values()},
        alone={code.value: code for (name, _), code in codes.items() if spaces[name].stands_alone},
        contexts=tuple((name, read_sentence(text)) for name, space in spaces.items() for text in space.contexts),
        spaces=spaces,
    )


def _refusal(path: str, why: str) -> UnreadableError:
    return UnreadableError(
        what=f"The knowledge in {printable(path)} cannot be used",
        why=why,
        do="Put that entry right, or leave the file out; docs/formats/knowledge.md says how one is written.",
    )
