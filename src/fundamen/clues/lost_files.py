"""Find files that an installed package has brought, that a text names, and that are gone."""

import re
from collections.abc import Iterator
from enum import StrEnum
from itertools import islice

import msgspec

from fundamen.clues.implied import implied_files
from fundamen.clues.mentions import MentionKind, plain_name
from fundamen.clues.reading import Reading
from fundamen.evidence.dpkg import find_listed, installed_versions
from fundamen.evidence.dpkg_files import LEFT_OUT, Records, list_path
from fundamen.machine.links import dangling_target, is_gone
from fundamen.machine.machine import Machine
from fundamen.machine.pam_services import modules_of
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_MODULE = re.compile(r"[A-Za-z_]\w*(?:\.[A-Za-z_]\w*){0,20}")  # of Python, as an import names it
_PERL_MODULE = re.compile(r"[A-Za-z_]\w*(?:::\w+){0,20}")
_COMMAND = re.compile(r"[A-Za-z0-9_][\w.+-]{0,60}")
_MODULE_OF_PAM = "pam-module-unknown"  # the message that names the service, and not the module
_MOST_LOST = 5


def is_command(name: str) -> bool:
    """Whether a name may be that of a command, which is looked up on PATH."""
    return _COMMAND.fullmatch(name) is not None


class FileDamage(StrEnum):
    """States in which a file of a package can be of no use."""

    GONE = "gone"
    EMPTY = "empty"  # it is there, without its bytes
    ALTERED = "altered"  # its bytes are not those that its package has recorded


class LostFile(msgspec.Struct, frozen=True):
    """A file of a package that is gone, or does not have its bytes."""

    path: MachinePath
    package: str  # that has brought it, and is installed
    restored_by: MachinePath  # what to name for it: the package's list of files, or the file, if it is a setting
    damage: FileDamage = FileDamage.GONE
    is_named: bool = True  # whether the text names it or its program; otherwise it is only what is wrong on the machine


def find_lost_files(machine: Machine, reading: Reading) -> tuple[LostFile, ...]:
    """The files that the causes of a text name, and modules of Python and Perl, if they are gone; at most five."""
    if machine.platform is not Platform.LINUX:
        return ()
    return tuple(islice(_lost_files(machine, reading), _MOST_LOST))


def _lost_files(machine: Machine, reading: Reading) -> Iterator[LostFile]:
    causes = [each for each in (reading.decisive, *reading.also) if each is not None]
    components = {each.holes["component"] for each in causes if "component" in each.holes}
    paths = {each.holes[name] for each in causes for name in ("path", "program", "component") if name in each.holes}
    paths |= {mention.text for mention in reading.mentions if mention.kind is MentionKind.PATH}
    names = {plain_name(name) for name in components if "." in name}
    for module in filter(_MODULE.fullmatch, components):
        place = module.replace(".", "/")
        names |= {f"{place}.py", f"{place}/__init__.py"}
    names |= {f"{module.replace('::', '/')}.pm" for module in filter(_PERL_MODULE.fullmatch, components)}
    names |= {name for each in causes for name in implied_files(each)}
    services = [e.holes.get("program", "") for e in causes if e.entry is not None and e.entry.id == _MODULE_OF_PAM]
    modules = (module for service in services for module in modules_of(machine, plain_name(service)))
    names |= {f"security/{plain_name(module)}" for module in modules}
    absolute = [MachinePath(path) for path in sorted(paths) if path.startswith("/")]
    named = [path for _, path in find_listed(machine, absolute, names)]
    targets = [dangling_target(machine, path) for path in (*absolute, *named)]
    gone = [path for path in (*absolute, *named, *targets) if path is not None and is_gone(machine, path)]
    seen: set[MachinePath] = set()
    for package, path in find_listed(machine, gone, ()):
        is_known = path in seen or path.startswith(LEFT_OUT) or not installed_versions(machine, {package})
        if not is_known and is_gone(machine, path):
            seen.add(path)
            by = path if _is_setting(machine, package, path) else list_path(package)
            yield LostFile(path, package.partition(":")[0], by)


def _is_setting(machine: Machine, package: str, path: MachinePath) -> bool:
    """Whether people are meant to change a file of a package: it comes back only by itself."""
    try:
        recorded = Records(machine).package_of(list_path(package))
    except UnreadableError:
        return False
    return recorded is not None and path in dict(recorded.settings)
