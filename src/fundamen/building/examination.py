"""Examine a failing build: by its log, by one command line, or by what make would do for a target."""

import os
from collections.abc import Iterator, Sequence

from fundamen.building.command import CompilerCommand, read_compiler_command
from fundamen.building.compiler import compiler_of, dry_run
from fundamen.building.records import BuildStep
from fundamen.building.step import examine_step
from fundamen.evidence.authority import Authority
from fundamen.formats.build_log import BuildLog, BuildMessage, BuildSaying, read_build_log, read_command
from fundamen.machine.machine import Machine
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import MachinePath

_OF_32_BITS = ("elf_i386", "i386:x86-64 architecture", "-m32", "i386-linux")


def examine_log(
    machine: Machine, text: str, folder: MachinePath, authorities: Sequence[Authority] = ()
) -> tuple[BuildStep, ...]:
    """Examine each step that a log says has failed.

    Args:
        machine: this host.
        text: what the tools said.
        folder: that the build was run in, where the log does not say.
        authorities: who may vouch for what is found.

    Raises:
        UnreadableError: a compiler cannot be asked, or the log names nothing that is lacking.
    """
    _require_this_host(machine)
    log = read_build_log(text)
    steps = [
        _examine_in_log(machine, log, number, said, folder, authorities, text) for number, said in _by_command(log)
    ]
    if not steps:
        raise UnreadableError(
            what=say("building.the-log-names-nothing-that-is"),
            why=say("building.no-message-in-its-lines-is", count=text.count(chr(10))),
            do=say("building.give-the-part-of-the-log"),
        )
    return tuple(steps)


def examine_command(
    machine: Machine, line: str, folder: MachinePath, authorities: Sequence[Authority] = ()
) -> tuple[BuildStep, ...]:
    """Examine one command line of a compiler or linker.

    Raises:
        UsageError: it is none.
        UnreadableError: the compiler cannot be asked.
    """
    _require_this_host(machine)
    found = read_command(line, folder)
    if found is None:
        raise UsageError(
            what=say("building.no-compiler-or-linker-is-called"),
            why=say("building.has-no-word-such-as-cc", line=printable(line[:80])),
            do=say("building.write-it-as-the-build-does"),
        )
    command = read_compiler_command(found.words)
    compiler = compiler_of(command, found.folder, is_trusted=True)
    return (examine_step(machine, command, compiler, MachinePath(found.folder), (), authorities),)


def examine_target(
    machine: Machine, target: str, folder: MachinePath, authorities: Sequence[Authority] = ()
) -> tuple[BuildStep, ...]:
    """Examine each command that make would perform for a target.

    Raises:
        UsageError: make would perform no compiler's command.
        UnreadableError: make or a compiler cannot be asked.
    """
    _require_this_host(machine)
    log = read_build_log(dry_run(target, folder))
    if not log.commands and not log.messages:
        raise UsageError(
            what=say(
                "building.make-would-compile-and-link-nothing",
                target=printable(target) or say("building.its-first-target"),
            ),
            why=say("building.it-shows-no-compiler-command-the"),
            do=say("building.touch-a-source-first-or-name"),
        )
    said = dict(_by_command(log))
    commands = range(len(log.commands)) if log.commands else [-1]
    return tuple(
        _examine_in_log(machine, log, number, said.get(number, []), folder, authorities) for number in commands
    )


def _examine_in_log(
    machine: Machine,
    log: BuildLog,
    number: int,
    said: list[BuildMessage],
    folder: MachinePath,
    authorities: Sequence[Authority],
    text: str = "",
) -> BuildStep:
    if number < 0:
        words = ("-m32",) if any(sign in text for sign in _OF_32_BITS) else ()
        compiler = compiler_of(CompilerCommand("cc", (), (), words, links=True), folder, is_trusted=False)
        return examine_step(machine, None, compiler, folder, said, authorities)
    given = log.commands[number]
    named = os.path.normpath(os.path.join(folder, given.folder))
    where = MachinePath(named) if os.path.isdir(named) else folder
    command = read_compiler_command(given.words)
    return examine_step(machine, command, compiler_of(command, where, is_trusted=False), where, said, authorities)


def _by_command(log: BuildLog) -> Iterator[tuple[int, list[BuildMessage]]]:
    """The messages of each command that some are about, in the order of the commands."""
    commands = [read_compiler_command(command.words) for command in log.commands]
    groups: dict[int, list[BuildMessage]] = {}
    for message in log.messages:
        groups.setdefault(_command_of(message, commands), []).append(message)
    return iter(sorted((number, said) for number, said in groups.items() if any(_is_of_lack(each) for each in said)))


def _command_of(message: BuildMessage, commands: list[CompilerCommand]) -> int:
    """The number of the command that a message is about: the one with its source, or else the last that fits."""
    before = range(message.command, -1, -1)
    if message.says is BuildSaying.NO_HEADER:
        return next((n for n in before if message.asked_by in commands[n].sources), message.command)
    if message.says in {BuildSaying.NO_LIBRARY, BuildSaying.NO_SYMBOL, BuildSaying.SKIPPED, BuildSaying.NOT_ON_LINE}:
        return next((n for n in before if commands[n].links), message.command)
    return message.command


def _is_of_lack(message: BuildMessage) -> bool:
    return message.says not in {BuildSaying.TARGET_FAILED, BuildSaying.SKIPPED}


def _require_this_host(machine: Machine) -> None:
    if not machine.is_live:
        raise UnreadableError(
            what=say("building.a-build-on-cannot-be-examined", title=machine.title),
            why=say("building.its-own-compiler-has-to-be"),
            do=say("building.run-fundamen-on-that-machine-or"),
        )
