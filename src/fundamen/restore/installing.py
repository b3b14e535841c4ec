"""The step that installs packages of the operating system's archive, by its package manager.

Guarantees: only the files that apt has fetched and checked are installed; nothing that is installed is upgraded or
removed for it. Its inverse purges exactly the packages that were new; log and caches of the package manager are what
it makes of them, and do not come back to the byte. Sources: dpkg(1), "ACTIONS", "--root", "--no-act".
"""

import os
import re

from fundamen.machine.host_tools import run_tool
from fundamen.model.paths import MachinePath
from fundamen.restore.records import PackagesRecord, Site
from fundamen.restore.steps import InstallPackages

_SECONDS = 1800
_STATUS = MachinePath("/var/lib/dpkg/status")
_STANZA = re.compile(rb"^Package: (\S+)\n((?:.+\n)*)", re.MULTILINE)
_INSTALLED = b"install ok installed"


def keep(step: InstallPackages, site: Site) -> PackagesRecord:
    """Write down what is to be installed; nothing is changed.

    Raises:
        OSError: we may not, or one of the packages is there by now.
    """
    if os.geteuid() != 0:
        raise PermissionError(1, "installing packages needs the administrator's rights", site.machine.root)
    names = tuple(f"{each.name}:{each.architecture}" for each in step.packages)
    record = PackagesRecord(
        path=step.path,
        names=names,
        versions=tuple(each.version for each in step.packages),
        files=step.files,
    )
    if known := [name for name in names if name in _states(site)]:
        raise FileExistsError(17, "it is known to the package manager by now", known[0])
    return record


def install(record: PackagesRecord, site: Site) -> None:
    """Install the packages. Raises: OSError: the package manager could not, in its own words."""
    _dpkg(site, "--force-confdef", "--force-confold", "--install", *record.files)


def are_installed(record: PackagesRecord, site: Site) -> bool:
    """Whether all of them are installed in the version that was planned. Raises: OSError."""
    states = _states(site)
    wanted = zip(record.names, record.versions, strict=True)
    return all(states.get(name) == (_INSTALLED, version) for name, version in wanted)


def why_they_must_stay(record: PackagesRecord, site: Site) -> str:
    """Why the packages cannot be purged; empty where they can. Raises: OSError."""
    known = _known(record, site)
    if not known:
        return ""
    try:
        _dpkg(site, "--no-act", "--purge", *known)
    except OSError as error:
        return f"the package manager would not purge {', '.join(known)}: {error.strerror}"
    return ""


def purge(record: PackagesRecord, site: Site) -> None:
    """Purge those of the packages that the package manager knows of. Raises: OSError: it could not."""
    if known := _known(record, site):
        _dpkg(site, "--force-remove-reinstreq", "--purge", *known)


def _known(record: PackagesRecord, site: Site) -> list[str]:
    states = _states(site)
    return [name for name in record.names if name in states]


def _states(site: Site) -> dict[str, tuple[bytes, str]]:
    """(state, version) of each package that the package manager knows of, by name and architecture."""
    with site.machine.place(_STATUS).reading() as file:
        text = file.read()
    found = {}
    for stanza in _STANZA.finditer(text):
        fields = dict(line.split(b": ", 1) for line in stanza[2].splitlines() if b": " in line and line[:1] != b" ")
        name = f"{stanza[1].decode()}:{fields.get(b'Architecture', b'').decode()}"
        found[name] = (fields.get(b"Status", b""), fields.get(b"Version", b"").decode())
    return found


def _dpkg(site: Site, *words: str) -> None:
    command = ["dpkg", f"--root={site.machine.root}", *words]
    # Apart: a Ctrl-C is ours to act on, not the package manager's.
    done = run_tool(command, _SECONDS, apart=True, DEBIAN_FRONTEND="noninteractive")
    if done.returncode:
        lines = [line.strip() for line in done.stderr.splitlines() if line.strip()]
        raise OSError(0, "; ".join(lines[:3]) or f"it ended with status {done.returncode}", "dpkg")
