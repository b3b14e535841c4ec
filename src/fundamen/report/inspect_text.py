"""What one file says of itself, as text."""

from fundamen.formats.cli_header import Managed
from fundamen.formats.elf import Elf
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Binary, Format, How
from fundamen.report.page import Page, counted, size_in_words
from fundamen.trace.inspection import Inspection

_FORMATS = {"elf": "Linux", "pe": "Windows", "macho": "macOS"}


def inspection_text(inspection: Inspection, *, drawn: bool) -> str:
    """The page for one file."""
    binary = inspection.binary
    page = Page(drawn=drawn)
    name = inspection.path.replace("\\", "/").rpartition("/")[2]
    state = "intact in form" if binary.is_intact else "damaged"
    article = {"program": "a", "library": "a", "object": "an"}.get(binary.kind, "a")
    architectures = " and ".join((binary.architecture, *binary.also_for)).replace(Architecture.ANY, "any processor")
    page.answer(
        f"{name} is {article} {_FORMATS[binary.format]} {binary.kind} for {architectures}, {state}.",
        good=None if binary.is_intact else False,
    )
    page.blank()
    page.field("file", inspection.path, indent=2)
    exact = counted(binary.size, "byte")
    page.field(
        "size", exact if size_in_words(binary.size) == exact else f"{size_in_words(binary.size)} ({exact})", indent=2
    )
    page.field("SHA-256", inspection.sha256, indent=2)
    if binary.name is not None:
        page.field("own name", binary.name, indent=2)
    for label, value in (("version", inspection.version), *_facts(inspection)):
        if value is not None:
            page.field(label, value, indent=2)
    if inspection.managed is not None:
        _managed(page, inspection.managed)
    for problem in binary.problems:
        page.field("damage", f"{problem.place}: {problem.reason}", indent=2)
    page.heading(
        f"Needs {counted(len(binary.needs), 'library', 'libraries')}" if binary.needs else "Needs no libraries"
    )
    for need in binary.needs:
        page.line(need.name + ("" if need.how is How.REQUIRED else f" ({need.how})"))
    if inspection.exports is not None:
        page.heading(f"Offers {counted(len(inspection.exports), 'name')}")
        for export in inspection.exports:
            page.line(export)
    return page.text()


def _facts(inspection: Inspection) -> list[tuple[str, str | None]]:
    """What only files of this format say of themselves."""
    binary = inspection.binary
    if isinstance(binary, Elf):
        return [("loader", binary.interpreter), ("RPATH", binary.rpath), ("RUNPATH", binary.runpath)]
    return _mac_facts(binary, inspection.signed) if binary.format is Format.MACHO else []


def _mac_facts(binary: Binary, signed: tuple[str, ...]) -> list[tuple[str, str | None]]:
    """The search path, and of each slice for what it is made and how it is signed."""
    from fundamen.formats.macho import MachO  # noqa: PLC0415 - only for files of this format

    slices = binary.slices if isinstance(binary, MachO) else ()
    facts: list[tuple[str, str | None]] = [
        ("run path", run_path) for run_path in dict.fromkeys(path for part in slices for path in part.run_paths)
    ]
    for part, words in zip(slices, signed, strict=True):
        made_for = f"for macOS {part.minimum_os} or later, " if part.minimum_os and part.platform == 1 else ""
        facts.append((part.architecture, made_for + words))
    return facts


def _managed(page: Page, managed: Managed) -> None:
    """What a managed image runs on and refers to."""
    facts = [
        ("managed", f"yes, for {managed.width}"),
        ("assembly", str(managed.assembly) if managed.assembly else None),
        ("framework", managed.target_framework or f"the one of runtime {managed.runtime_version}"),
        *(("refers to", str(reference)) for reference in managed.references),
        *(("calls into", library) for library in managed.native_libraries),
    ]
    for label, value in facts:
        if value is not None:
            page.field(label, value, indent=2)
