"""Find the package that a removed library came in: the owner of the file that needs it still depends on it by name.

Sources: Debian Policy, sections 7.2 and 8.1 ("the name of a package of a shared library"); dpkg(1), "status".
"""

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence

from fundamen.evidence.dpkg import all_stanzas, fields_of, find_listed
from fundamen.machine.machine import Machine
from fundamen.model.paths import MachinePath

_FIELDS = ("Pre-Depends", "Depends")
_NAME = re.compile(r"[a-z0-9][a-z0-9+.-]*")
_LETTERS = re.compile(r"[a-z]*")  # with which a name begins
_LATER = re.compile(r"(?:t64|v\d|c\d+a?|g|[a-z]{0,1})")  # what a transition has put behind a name


def find_removed_packages(machine: Machine, needers: Mapping[str, Iterable[MachinePath]]) -> dict[str, tuple[str, ...]]:
    """The packages that should be installed and are not, and whose name is that of a library.

    Args:
        machine: a Debian machine.
        needers: the soname of each library that is missing -> the files that need it.

    Returns:
        Its packages by each soname; a soname without any is left out.
    """
    paths = {path for files in needers.values() for path in files}
    owners: dict[MachinePath, set[str]] = {}
    for package, listed in find_listed(machine, paths, ()):
        for path in paths:
            if machine.real(path) == machine.real(listed):
                owners.setdefault(path, set()).add(package.partition(":")[0])
    if not owners:
        return {}
    stanzas = [fields_of(stanza) for stanza in all_stanzas(machine)]
    installed = {s.get("Package", "") for s in stanzas if s.get("Status", "").endswith(" installed")}
    wanted = {s.get("Package", ""): _dependencies(s) for s in stanzas}
    chosen = {name for stanza in stanzas for name in _chosen_from(stanza)}
    found: dict[str, tuple[str, ...]] = {}
    for soname, files in needers.items():
        names = [name for path in files for owner in sorted(owners.get(path, ())) for name in wanted.get(owner, ())]
        absent = [name for name in dict.fromkeys(names) if name not in installed]
        named = [name for name in absent if _is_of(name, soname)]
        # Not all packages keep to the policy: librsvg2-2 has librsvg-2.so.2.
        if fitting := named or _alike((name for name in absent if name not in chosen), soname):
            found[soname] = tuple(fitting)
    return found


def _dependencies(stanza: Mapping[str, str]) -> Sequence[str]:
    text = ",".join(stanza.get(field, "") for field in _FIELDS)
    parts = (part.strip().partition(" ")[0].partition(":")[0] for part in re.split(r"[,|]", text))
    return [part for part in parts if _NAME.fullmatch(part)]


def _chosen_from(stanza: Mapping[str, str]) -> Iterator[str]:
    """The packages of which another one may take the place for a package that depends on them."""
    for part in re.split(",", ",".join(stanza.get(field, "") for field in _FIELDS)):
        if "|" in part:
            yield from (each.strip().partition(" ")[0].partition(":")[0] for each in part.split("|"))


def _alike(packages: Iterable[str], soname: str) -> list[str]:
    """The packages whose name begins with the letters with which that of a library begins."""
    found = _LETTERS.match(soname.lower())
    letters = found[0] if found is not None else ""
    return [name for name in packages if letters not in {"", "lib"} and name.startswith(letters) and ".so" not in name]


def _is_of(package: str, soname: str) -> bool:
    """Whether a package is named after a library: libnghttp2-14 after libnghttp2.so.14, libssl3 after libssl.so.3."""
    stem, found, version = soname.lower().replace("_", "-").partition(".so.")
    if not found:
        stem, found, version = soname.lower().replace("_", "-").removesuffix(".so").rpartition("-")
    between = "-" if stem[-1:].isdigit() else ""
    begin = f"{stem}{between}{version}"
    return bool(found) and package.startswith(begin) and _LATER.fullmatch(package[len(begin) :]) is not None
