"""Play the whole case with the real commands, each shown with its output."""

import os
import shlex
import subprocess
import sys
import textwrap
from collections.abc import Callable, Iterator, Mapping, Sequence
from functools import partial
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
    is_in_short: bool = False  # whether it is part of the short story of one desk


class Played(msgspec.Struct, frozen=True):
    """A scene that was played."""

    scene: Scene
    output: str
    status: int

    @property
    def is_as_expected(self) -> bool:
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
    *,
    whole: bool = True,
) -> Iterator[Played]:
    """Build the world in a folder and play the scenes there, one by one.

    Args:
        folder: where the world is built; it is the current folder of every command.
        colour: whether the commands are to colour their output.
        on_scene: called before each scene is played.
        run: runs ``fundamen``, as ``run_afresh`` does.
        whole: whether every scene is shown, and not only the short story of one desk.
    """
    from fundamen.demo.stand_in import StandIn  # noqa: PLC0415 - only where the demo is played

    build_world(folder)
    if desk_target():
        break_desk(folder)
    break_quay(folder)
    scenes = (*_desk(), *_quay()) if whole or not desk_target() else tuple(_desk())
    shown = partial(_choose_shown, whole=whole or not desk_target())
    for scene in map(shown, _packager()):
        yield _play_scene(scene, folder, {}, on_scene, run, colour=colour)
    with StandIn(folder / "source") as server:  # what the harbour's IT serves to its technicians
        (folder / "harbour-ca.pem").write_text(server.authority)
        words = {"FINGERPRINT": _fingerprint(folder), "ADDRESS": server.address}
        for scene in map(shown, scenes):
            yield _play_scene(scene, folder, words, on_scene, run, colour=colour)


def _choose_shown(scene: Scene, *, whole: bool) -> Scene:
    return scene if whole or scene.is_in_short else msgspec.structs.replace(scene, is_shown=False)


def _play_scene(
    scene: Scene,
    folder: Path,
    words: dict[str, str],
    on_scene: Callable[[Scene], None],
    run: Runner,
    *,
    colour: bool,
) -> Played:
    """Play a scene, what was not known when it was written put in."""
    scene = msgspec.structs.replace(scene, command=tuple(words.get(word, word) for word in scene.command))
    if scene.is_shown:
        on_scene(scene)
    environment = {**os.environ, "FUNDAMEN_HOME": str(folder / "state"), "PYTHONIOENCODING": "utf-8"}
    if not colour:
        environment["NO_COLOR"] = "1"
    first, *others = scene.command
    if first == "fundamen":
        return Played(scene, *run(others, environment, folder))
    return Played(scene, *_run([str(folder / first), *others], environment, folder))


def opening_lines(*, whole: bool = True) -> str:
    """An introduction for a reader who has never seen Fundamen."""
    text = (
        "This is a case at the made-up harbour office of Marram Sound, played with the real commands. The program"
        " Tidebook needs the Saltgrass Runtime. One library of it is missing, one is for another architecture, and one"
        " is truncated. "
    )
    more = "" if whole else "This is the story of one desk; 'fundamen demo --all' also shows the packager and Windows."
    return textwrap.fill(text + more, _WIDTH)


def closing_lines(folder: Path) -> list[str]:
    """Commands to continue with in a world that was kept."""
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
        "The harbour's IT has a source of packages. The publisher Ardvane Instruments has sent its Saltgrass Runtime"
        " 4.2.1. IT adds each build and signs the catalogue; only the first build is shown here."
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
            "(The first machine of the story is a Linux desk. This host cannot run its program, so the story continues"
            " with a Windows disk.) The technician trusts the source by its fingerprint.",
            trust,
            0,
        )
        return
    yield Scene(
        "At the desk, the program Tidebook does not start. The loader names one library:",
        (f"./{DESK_PROGRAM}",),
        127,
        is_in_short=True,
    )
    yield Scene(
        "The technician opens a case. Each command is recorded in it, with its answer.",
        ("fundamen", "case", "open", "Tidebook does not start", "--on", "the harbour desk"),
        0,
    )
    yield Scene(
        "The caller reads the message out. Fundamen explains it, and looks at the machine.",
        ("fundamen", "clues", "--text", f"{DESK_PROGRAM}: {_MESSAGE}"),
        1,
    )
    yield Scene(
        "A trace runs nothing, and shows all faults at once:",
        ("fundamen", "trace", DESK_PROGRAM),
        1,
        is_in_short=True,
    )
    yield Scene(
        "IT reads the fingerprint of its source out over the telephone, and the technician types it in. The source is"
        " served over HTTPS by a server of the harbour's own authority; a copy on a disk is its mirror.",
        trust,
        0,
    )
    yield Scene(
        "A rehearsal changes nothing. It shows what would be done, and whether Tidebook would start then.",
        ("fundamen", "restore", "--rehearse", DESK_PROGRAM),
        1,
    )
    yield Scene(
        "The technician trusts the source of the harbour's IT, and repairs the program. At the end Tidebook is run, as"
        " proof.",
        ("fundamen", "restore", "--yes", "--launch", DESK_PROGRAM),
        0,
        is_in_short=True,
    )
    yield Scene("The history shows what was done.", ("fundamen", "history"), 0)
    yield Scene(
        "The case keeps what helped, for the next caller with such a message.",
        ("fundamen", "case", "close", "--helped", "Saltgrass Runtime 4.2.1 from the harbour source"),
        0,
    )
    yield Scene("Every restoration can be undone, to the byte.", ("fundamen", "undo"), 0, is_in_short=True)
    yield Scene("The desk is as broken as before:", (f"./{DESK_PROGRAM}",), 127)


def _quay() -> Iterator[Scene]:
    on_quay = ("--machine", "quay")
    yield Scene(
        "The Windows machine on the quay does not boot; its disk is mounted in the folder 'quay'. 32-bit files were"
        " copied into System32, which is the folder of 64-bit programs.",
        ("fundamen", "trace", *on_quay, QUAY_PROGRAM),
        1,
    )
    yield Scene(
        "The 32-bit program on the same disk uses the other system folder, and has no fault.",
        ("fundamen", "trace", *on_quay, QUAY_NARROW_PROGRAM),
        0,
    )
    yield Scene(
        "One command repairs it: the 64-bit package goes into the folder that 64-bit programs search.",
        ("fundamen", "restore", "--yes", *on_quay, QUAY_PROGRAM),
        0,
    )
    yield Scene("This restoration is undone as well.", ("fundamen", "undo", *on_quay), 0)


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
    """The fingerprint that IT reads out over the telephone."""
    from fundamen.sources.layout import root_fingerprint  # noqa: PLC0415 - only once the source is there
    from fundamen.trust.fingerprint import group_digits  # noqa: PLC0415 - only once the source is there

    return group_digits(root_fingerprint((folder / "source" / "metadata" / "1.root.json").read_bytes()))


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
