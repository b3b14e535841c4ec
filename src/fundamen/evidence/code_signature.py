"""The signature that a macOS file carries knows the digest of each of its pages: a damaged page is found by it."""

import contextlib
from collections.abc import Sequence

from fundamen.evidence.authority import Says, Subject, Testimony
from fundamen.formats.mac.macho import MachO
from fundamen.formats.mac.macho_signature import find_altered_page, read_signature
from fundamen.formats.mac.macho_slice import Slice
from fundamen.machine.machine import Machine
from fundamen.messages import UNSAID, Message, say
from fundamen.model.architecture import Platform
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

_SPEAKER = "its own signature"


class CodeSignatureAuthority:
    """Speaks against bytes that are not those that were signed. Never for them: a signer may be unknown."""

    def testify(self, machine: Machine, subjects: Sequence[Subject]) -> dict[MachinePath, Testimony]:
        """Speak about the files of which a page was altered."""
        testimonies: dict[MachinePath, Testimony] = {}
        for subject in subjects if machine.platform is Platform.MACOS else ():
            with contextlib.suppress(UnreadableError):
                binary = machine.binary(subject.path)
                part = binary.slice_for(subject.architecture) if isinstance(binary, MachO) else None
                if part is not None and (detail := _first_altered_page(machine, subject.path, part)):
                    testimonies[subject.path] = Testimony(_SPEAKER, Says.WRONG, detail)
        return testimonies


def _first_altered_page(machine: Machine, path: MachinePath, part: Slice) -> Message:
    """Which page is not what was signed; empty where all are."""
    with machine.open(path) as source:
        signature = read_signature(source, part)
        index = find_altered_page(source, part, signature) if signature is not None else None
    if signature is None or index is None:
        return UNSAID
    begin = index * signature.page_size
    end = min(begin + signature.page_size, signature.covered)
    return say("evidence.bytes-to-of-its-code-for", begin=begin, end=end, architecture=part.architecture)
