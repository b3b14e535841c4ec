"""The plan that mends the entry of a certificate authority: another host, a new certificate; nothing else of it."""

from datetime import datetime

from fundamen.certificate_authorities.examining import AuthorityState
from fundamen.changes.directory_entries import SetDirectoryEntry
from fundamen.directories.connection import DirectoryPlace
from fundamen.machine.machine import Machine
from fundamen.model.paths import MachinePath
from fundamen.restore.plan_file import PlanFile


def plan_authority(
    machine: Machine,
    program: MachinePath | None,
    state: AuthorityState,
    place: DirectoryPlace,
    login: str,
    host: str | None,
    certificate: bytes | None,
    now: datetime,
) -> PlanFile:
    """The plan.

    Args:
        machine: from which the directory is asked.
        program: for which it is done; None where it is for no program of this machine.
        state: the authority as it was found.
        place: where the directory answers.
        login: as whom the entry is changed.
        host: that it is to name; None: as it is.
        certificate: in DER, that it is to have; None: as it is.
        now: this moment.
    """
    wanted = state.wanted
    texts: dict[str, tuple[str, ...]] = (
        {wanted.host_in: (host,)} if host is not None and wanted.host_in is not None else {}
    )
    contents: dict[str, tuple[bytes, ...]] = {}
    if certificate is not None:
        contents[_spell_attribute(state, wanted.certificate_in)] = (certificate,)
    held = {name.lower(): values for name, values in state.held.items()}
    faults = "; ".join(f"{fault.about}: {fault.found}" for fault in state.faults)
    step = SetDirectoryEntry(
        path=f"/{wanted.entry}",
        because=faults,
        server=place.server,
        port=place.port,
        tls=place.tls,
        roots=place.roots,
        entry=wanted.entry,
        login=login,
        texts=texts,
        contents=contents,
        expects={name: held.get(name.lower(), ()) for name in (*texts, *contents)},
    )
    return PlanFile(program=program or step.path, machine=machine.title, made_at=now, steps=(step,))


def _spell_attribute(state: AuthorityState, attribute: str) -> str:
    """The attribute as the entry has it, with or without the option ``;binary``."""
    wanted = attribute.lower().removesuffix(";binary")
    return next((name for name in state.held if name.lower().removesuffix(";binary") == wanted), attribute)
