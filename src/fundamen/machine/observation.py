"""Record the libraries that a program loads as it runs."""

import msgspec

from fundamen.model.paths import MachinePath


class Observation(msgspec.Struct, frozen=True):
    """The observed run of a program."""

    by: str  # what ran it, with its version
    status: int | None  # the exit status's lowest byte; None where it was stopped as its time was up
    seconds: float
    loaded: tuple[MachinePath, ...]  # by the program and what it started, in order, each once
    failed: tuple[
        tuple[str, int | None], ...
    ]  # names that were asked for in vain, each with its NTSTATUS if it has one
    output: str  # the beginning of what the program wrote to its two streams
    is_as_before: bool  # whether the prefix's registry is byte for byte what it was
    askers: tuple[tuple[str, str], ...] = ()  # name or path that was asked for, the file whose code asked for it
