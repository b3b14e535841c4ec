"""For which Python an extension module is built, and whether that one is installed.

Source: PEP 3149 (tags in the names of shared objects), PEP 384 (the stable ABI).
"""

import re

import msgspec

from fundamen.loaders.load_map import Candidate, CandidateOutcome, LoadMap, Resolution
from fundamen.loaders.python_environment import installed_pythons
from fundamen.loaders.search_path import find_on_path
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import say
from fundamen.model.binary import Format, Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_TAG = re.compile(r"\.cpython-(\d)(\d+)[a-z]*(?:-[\w-]+)?\.so$")
_LIES_IN = re.compile(r"^(.*)/lib(?:64)?/python(\d+\.\d+)/")


def with_interpreter(machine: Machine, loading: LoadMap) -> LoadMap:
    """The load map of an extension module, with the interpreter that it is built for as a need."""
    tag = _TAG.search(loading.program)
    if tag is None:
        return loading
    version = f"{tag[1]}.{tag[2]}"
    lies_in = _LIES_IN.match(loading.program)
    found: dict[MachinePath, str] = {}
    if lies_in is not None:
        beside = machine.join(lies_in[1] or "/", "bin", f"python{version}")
        found.update({beside: version} if machine.look(beside).kind is EntryKind.FILE else {})
    on_path = (c.path for c in find_on_path(machine, f"python{version}") if c.outcome is CandidateOutcome.TAKEN)
    found.update({path: version for path in on_path if _is_interpreter(machine, path)})
    for other, path in installed_pythons(machine):
        found.setdefault(path, other)
    taken = next((path for path, own in found.items() if own == version), None)
    candidates = [
        Candidate(
            path,
            CandidateOutcome.TAKEN if path == taken else CandidateOutcome.OTHER_VERSION,
            say("loaders.it-is-installed"),
            say("loaders.is-python", own=own),
        )
        for path, own in found.items()
        if path == taken or (taken is None and own != version)
    ]
    decided = say("loaders.the-module-is-built-for-python", version=version)
    resolution = Resolution(
        f"Python {version}",
        loading.program,
        Necessity.REQUIRED,
        tuple(candidates),
        taken,
        "runtime",
        decided=decided,
        gives_up_with=say("loaders.modulenotfounderror-for-no-other-version-sees"),
    )
    remarks = loading.remarks
    if lies_in is not None and lies_in[2] != version:
        remarks = (*remarks, say("loaders.python-in-whose-folder-it-lies", lies_in=lies_in[2]))
    loaded = {**loading.loaded, taken: machine.binary(taken)} if taken is not None else loading.loaded
    resolutions = (resolution, *loading.resolutions)
    return msgspec.structs.replace(loading, resolutions=resolutions, remarks=remarks, loaded=loaded)


def _is_interpreter(machine: Machine, path: MachinePath) -> bool:
    """Whether a command is Python itself, and no script that would choose one."""
    try:
        return machine.binary(path).format is not Format.SCRIPT
    except UnreadableError:
        return False
