"""Resolve the needs of a Python environment: its base interpreter, and the version of its packages.

Source: PEP 405 (pyvenv.cfg), and CPython's Lib/venv for the keys that it writes.
"""

import re
from collections.abc import Iterator

from fundamen.loaders.load_map import Candidate, CandidateOutcome, Resolution
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import say
from fundamen.model.binary import Necessity
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_KIND = "environment"
_MOST_BYTES = 1 << 16
_VERSION = re.compile(r"(\d+)\.(\d+)")
_INTERPRETER = re.compile(r"python(\d+\.\d+)$")
_USUAL_FOLDERS = ("/usr/bin", "/usr/local/bin", "/opt/python/bin")


def find_environment(machine: Machine, needed_by: MachinePath, interpreter: MachinePath) -> Resolution | None:
    """How the environment that an interpreter belongs to stands; None where it belongs to none."""
    folder = machine.folder_of(machine.folder_of(interpreter))
    settings = _settings_of(machine, folder)
    if settings is None:
        return None
    home, made_with = settings
    base = _base(machine, home, made_with)
    name = say(
        "loaders.a-python-environment", folder=folder, more=say("loaders.of", made_with=made_with) if made_with else ""
    )
    if base is None:
        others = ", ".join(dict.fromkeys(found for found, _ in installed_pythons(machine)))
        here = say("loaders.here-are-versions", others=others) if others else say("loaders.here-is-no-python-at-all")
        decided = say(
            "loaders.the-environment-was-made-with-python", folder=folder, made_with=made_with, home=home, here=here
        )
        candidates = (
            Candidate(
                machine.join(home or "/", "python3"), CandidateOutcome.ABSENT, say("loaders.home-in-its-pyvenv-cfg")
            ),
        )
        return Resolution(name, needed_by, Necessity.REQUIRED, candidates, None, _KIND, decided=decided)
    now = _version_of(machine, base)
    packages = machine.join(folder, "lib", f"python{made_with}", "site-packages")
    if made_with and now and now != made_with and machine.look(packages).kind is EntryKind.FOLDER:
        detail = say("loaders.is-python-now", now=now)
        decided = say("loaders.its-packages-lie-in-where-only", packages=packages, made_with=made_with)
        candidates = (Candidate(base, CandidateOutcome.OLDER_VERSION, say("loaders.home-in-its-pyvenv-cfg"), detail),)
        return Resolution(name, needed_by, Necessity.REQUIRED, candidates, None, _KIND, decided=decided)
    decided = say("loaders.made-with-python-which-is-there", made_with=made_with or now)
    return Resolution(name, needed_by, Necessity.REQUIRED, (), folder, _KIND, decided=decided)


def find_base(machine: Machine, interpreter: MachinePath) -> MachinePath | None:
    """The Python that an environment's own interpreter should lead to; None where there is none, or no environment."""
    settings = _settings_of(machine, machine.folder_of(machine.folder_of(interpreter)))
    return _base(machine, *settings) if settings is not None else None


def _settings_of(machine: Machine, folder: MachinePath) -> tuple[str, str] | None:
    """(folder of its Python, version that it was made with) of an environment; None where there is none."""
    try:
        data = machine.content(machine.join(folder, "pyvenv.cfg"), _MOST_BYTES)
    except UnreadableError:
        return None
    lines = (line.partition("=") for line in data.decode("utf-8", "replace").splitlines())
    keys = {key.strip().lower(): value.strip() for key, equals, value in lines if equals}
    return keys.get("home", ""), _version_in(keys.get("version", keys.get("version_info", "")))


def installed_pythons(machine: Machine) -> Iterator[tuple[str, MachinePath]]:
    """Each Python in the usual folders: its version ("3.11") and its path."""
    for folder in _USUAL_FOLDERS:
        try:
            names = machine.names(MachinePath(folder))
        except UnreadableError:
            continue
        for name in names:
            if found := _INTERPRETER.fullmatch(name):
                yield found[1], machine.join(folder, name)


def _base(machine: Machine, home: str, version: str) -> MachinePath | None:
    """The interpreter that the environment's own one leads to."""
    for name in (f"python{version}", "python3", "python") if home.startswith("/") else ():
        path = machine.join(home, name)
        if machine.look(path).kind is EntryKind.FILE:
            return path
    return None


def _version_of(machine: Machine, interpreter: MachinePath) -> str:
    """An interpreter's version by its real name, or by the library that lies beside it."""
    if found := _INTERPRETER.search(machine.real(interpreter)):
        return found[1]
    library = machine.join(machine.folder_of(interpreter), "..", "lib")
    try:
        found_all = [found[1] for name in machine.names(library) if (found := _INTERPRETER.fullmatch(name))]
    except UnreadableError:
        return ""
    with_library = [
        v for v in found_all if machine.look(machine.join(library, f"python{v}", "os.py")).kind is EntryKind.FILE
    ]
    return with_library[0] if len(with_library) == 1 else ""


def _version_in(text: str) -> str:
    found = _VERSION.match(text)
    return f"{found[1]}.{found[2]}" if found else ""
