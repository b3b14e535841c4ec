"""Play the whole case with the real commands, each shown with its output."""

import os
import shlex
import subprocess
import sys
import textwrap
from collections.abc import Callable, Iterator, Mapping, Sequence
from pathlib import Path

import msgspec

from fundamen.demo.world import (
    DESK_PROGRAM,
    QUAY_NARROW_PROGRAM,
    QUAY_PROGRAM,
    break_desk,
    break_quay,
    build_world,
    desk_target,
    package_targets,
)

Runner = Callable[[Sequence[str], Mapping[str, str], Path], tuple[str, int]]

_WIDTH = 100
_SECONDS = 120


class Scene(msgspec.Struct, frozen=True):
    """One command of the story."""

    caption: str
    command: tuple[str, ...]  # the first word is the program: fundamen, or one of the world's own
    status: int  # that it is expected to end with
    is_shown: bool = True


class Played(msgspec.Struct, frozen=True):
    """A scene that was played."""

    scene: Scene
    output: str
    status: int

    @property
    def went_as_told(self) -> bool:
        """Whether the command ended as the story says."""
        return self.status == self.scene.status


def run_afresh(words: Sequence[str], environment: Mapping[str, str], folder: Path) -> tuple[str, int]:
    """Run ``fundamen`` with some words as a process of its own. Give what it printed, and its exit status."""
    return _run([sys.executable, "-m", "fundamen", *words], environment, folder)


def play(
    folder: Path,
    colour: bool,  # noqa: FBT001
    on_scene: Callable[[Scene], None],
    run: Runner = run_afresh,
) -> Iterator[Played]:
    """Build the world in a folder and play all scenes there, one by one.

    Args:
        folder: where the world is built; it is the current folder of every command.
        colour: whether the commands are to colour their output.
        on_scene: called before each scene is played.
        run: runs ``fundamen``, as ``run_afresh`` does.
    """
    from fundamen.demo.stand_in import StandIn  # noqa: PLC0415 - only where the demo is played

    build_world(folder)
    if desk_target():
        break_desk(folder)
    break_quay(folder)
    for scene in _packager():
        yield _told(scene, folder, {}, on_scene, run, colour=colour)
    with StandIn(folder / "source") as server:  # what the harbour's IT serves to its technicians
        (folder / "harbour-ca.pem").write_text(server.authority)
        words = {"FINGERPRINT": _fingerprint(folder), "ADDRESS": server.address}
        for scene in (*_desk(), *_quay()):
            yield _told(scene, folder, words, on_scene, run, colour=colour)


def _told(
    scene: Scene,
    folder: Path,
    words: dict[str, str],
    on_scene: Callable[[Scene], None],
    run: Runner,
    *,
    colour: bool,
) -> Played:
    """Play a scene, what was not known when it was written put in."""
    told = msgspec.structs.replace(scene, command=tuple(words.get(word, word) for word in scene.command))
    if told.is_shown:
        on_scene(told)
    environment = {**os.environ, "FUNDAMEN_HOME": str(folder / "state"), "PYTHONIOENCODING": "utf-8"}
    if not colour:
        environment["NO_COLOR"] = "1"
    first, *others = told.command
    if first == "fundamen":
        return Played(told, *run(others, environment, folder))
    return Played(told, *_run([str(folder / first), *others], environment, folder))


def opening() -> str:
    """What somebody who has never seen Fundamen should know first."""
    text = (
        "Fundamen finds out what a program that does not start stands on, names all that is wrong with it in one pass,"
        " restores it from a source that can prove itself, and can take every change back. This is a whole case, played"
        " with the real commands on two machines of the made-up harbour office of Marram Sound. Their program Tidebook"
        " stands on the Saltgrass Runtime, of which one library was lost, one is for another architecture, and one is"
        " cut in half."
    )
    return textwrap.fill(text, _WIDTH)


def closing(folder: Path) -> list[str]:
    """Commands to go on with in a world that was kept."""
    return [
        f"cd {shlex.quote(str(folder))}",
        f"export FUNDAMEN_HOME={shlex.quote(str(folder / 'state'))}",
        *([f"fundamen trace {DESK_PROGRAM}"] if desk_target() else []),
        f"fundamen trace --machine quay {shlex.quote(QUAY_PROGRAM)}",
    ]


def caption_text(scene: Scene) -> str:
    """A scene's caption and command line, laid out."""
    lines = textwrap.wrap(scene.caption, _WIDTH)
    return "\n".join([*lines, "", f"$ {_shown_command(scene)}"])


def _packager() -> Iterator[Scene]:
    first = (
        "The harbour's IT keeps a trusted source. The publisher Ardvane Instruments has sent its Saltgrass Runtime"
        " 4.2.1; IT takes each build in and signs the catalogue: this one, and then those for the other machines."
    )
    for index, target in enumerate(package_targets()):
        place = "{program}/../lib" if target.startswith("linux") else "{system}"
        words = ["sources", "publish", "source", "--from", f"media/saltgrass-4.2.1/{target}", "--keys", "keys"]
        words += ["--publisher", "Ardvane Instruments", "--package", "Saltgrass Runtime", "--version", "4.2.1"]
        words += ["--vouch", "compared with the digests that Ardvane states", "--place", place]
        yield Scene(first, ("fundamen", *words), 0, is_shown=index == 0)


_MESSAGE = (
    "error while loading shared libraries: libsaltgrass-tide.so.4: cannot open shared object file: "
    "No such file or directory"
)


def _desk() -> Iterator[Scene]:
    places = ("ADDRESS", "--authority", "harbour-ca.pem", "--mirror", "source")
    trust = ("fundamen", "sources", "trust", *places, "--name", "harbour-it", "--fingerprint", "FINGERPRINT")
    if not desk_target():
        yield Scene(
            "(The first machine of the story is a Linux desk whose program runs for real. This host cannot run it, so"
            " the story goes on with the quay's disk.) The technician trusts the source by its fingerprint.",
            trust,
            0,
        )
        return
    yield Scene(
        "At the desk, Tidebook, the tide table, does not start. The loader says one thing, and only one:",
        (f"./{DESK_PROGRAM}",),
        127,
    )
    yield Scene(
        "A case is opened: from now on each command is on record in it, with what it answered.",
        ("fundamen", "case", "open", "Tidebook does not start", "--on", "the harbour desk"),
        0,
    )
    yield Scene(
        "The caller reads the message out, and Fundamen tells what is behind it.",
        ("fundamen", "clues", "--text", f"{DESK_PROGRAM}: {_MESSAGE}"),
        1,
    )
    yield Scene(
        "The technician traces it. Nothing is run, and every fault shows at once, in the order in which they are met.",
        ("fundamen", "trace", DESK_PROGRAM),
        1,
    )
    yield Scene(
        "Which source can be trusted? IT reads the fingerprint out over the telephone; the technician types it in. The"
        " source is served over HTTPS, by a server of the harbour's own authority; a copy on a disk is its mirror.",
        trust,
        0,
    )
    yield Scene(
        "Before anything is touched, the restoration is rehearsed: what would be done, and would Tidebook then start?",
        ("fundamen", "restore", "--rehearse", DESK_PROGRAM),
        1,
    )
    yield Scene(
        "It would. Now for real, and Tidebook is run at the end to prove it.",
        ("fundamen", "restore", "--yes", "--launch", DESK_PROGRAM),
        0,
    )
    yield Scene("What was done is on record.", ("fundamen", "history"), 0)
    yield Scene(
        "And so is what helped, for the next time that somebody reads such a message out.",
        ("fundamen", "case", "close", "--helped", "Saltgrass Runtime 4.2.1 from the harbour source"),
        0,
    )
    yield Scene("And it can be undone, to the byte.", ("fundamen", "undo"), 0)
    yield Scene("The desk is as broken as it was:", (f"./{DESK_PROGRAM}",), 127)


def _quay() -> Iterator[Scene]:
    on_quay = ("--machine", "quay")
    yield Scene(
        "The quay's Windows machine does not boot; its disk is mounted in the folder 'quay'. Somebody copied 32-bit"
        " files into System32, because of the 64-bit system's confusing folder names.",
        ("fundamen", "trace", *on_quay, QUAY_PROGRAM),
        1,
    )
    yield Scene(
        "The 32-bit program on the same disk uses the other system folder, and that one is untouched.",
        ("fundamen", "trace", *on_quay, QUAY_NARROW_PROGRAM),
        0,
    )
    yield Scene(
        "One call puts it right: the 64-bit package, into the folder where 64-bit programs look.",
        ("fundamen", "restore", "--yes", *on_quay, QUAY_PROGRAM),
        0,
    )
    yield Scene("Taken back as well, so that nothing of the story is left behind.", ("fundamen", "undo", *on_quay), 0)


def _run(command: Sequence[str], environment: Mapping[str, str], folder: Path) -> tuple[str, int]:
    finished = subprocess.run(
        command,
        cwd=folder,
        env=environment,
        stdin=subprocess.DEVNULL,
        stdout=subprocess.PIPE,
        stderr=subprocess.STDOUT,
        timeout=_SECONDS,
        check=False,
    )
    return finished.stdout.decode("utf-8", "replace"), finished.returncode


def _fingerprint(folder: Path) -> str:
    """What IT reads out over the telephone."""
    from fundamen.sources.layout import root_fingerprint  # noqa: PLC0415 - only once the source is there
    from fundamen.trust.fingerprint import grouped  # noqa: PLC0415 - only once the source is there

    return grouped(root_fingerprint((folder / "source" / "metadata" / "1.root.json").read_bytes()))


def _shown_command(scene: Scene) -> str:
    """The command as a shell takes it, folded where it is long, an option kept with its value."""
    groups: list[str] = []
    for word in scene.command:
        if groups and not word.startswith("-") and groups[-1].startswith("-"):
            groups[-1] += " " + shlex.quote(word)
        else:
            groups.append(shlex.quote(word))
    lines = [groups[0]]
    for group in groups[1:]:
        if len(lines[-1]) + len(group) > _WIDTH - 6:
            lines.append("   ")
        lines[-1] += " " + group
    return " \\\n".join(lines)
