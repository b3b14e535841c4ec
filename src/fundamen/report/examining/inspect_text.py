"""Lay out one file's facts as text."""

from fundamen.formats.managed.cli_header import Managed
from fundamen.formats.unix.elf import Elf
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Binary, BinaryKind, Format, Necessity
from fundamen.report.page import Page, count_of, size_in_words
from fundamen.trace.inspection import Inspection

_FORMATS = {
    "elf": "Linux ",
    "pe": "Windows ",
    "macho": "macOS ",
    "java": "Java ",
    "script": "",
    "msi": "",
    "cabinet": "",
}


def inspection_text(inspection: Inspection, importing: str, *, drawn: bool) -> str:
    """The page for one file, with the command that imports the root of its chain."""
    page = Page(drawn=drawn)
    page.answer(_answer(inspection), good=False if inspection.is_at_fault else None)
    if inspection.publisher is not None:
        from fundamen.report.examining.trust_text import publisher_in_a_sentence  # noqa: PLC0415 - only where one was judged

        page.line(publisher_in_a_sentence(inspection.publisher), 0)
    page.blank()
    size = count_of(inspection.binary.size, "byte")
    in_words = size_in_words(inspection.binary.size)
    facts = [
        ("file", inspection.path),
        ("size", size if in_words == size else f"{in_words} ({size})"),
        ("SHA-256", inspection.sha256),
        ("own name", inspection.binary.name),
        ("version", inspection.version),
        *_facts(inspection),
        *((evidence.source, evidence.detail) for evidence in inspection.evidence),
    ]
    for label, value in facts:
        if value is not None:
            page.field(label, value, indent=2)
    if inspection.managed is not None:
        _add_managed(page, inspection.managed)
    for problem in inspection.binary.problems:
        page.field("damage", f"{problem.place}: {problem.reason}", indent=2)
    if inspection.publisher is not None:
        from fundamen.report.examining.trust_text import add_publisher  # noqa: PLC0415 - only where one was judged

        add_publisher(page, inspection.publisher, importing)
    if inspection.binary.format is not Format.JAVA and inspection.binary.kind is not BinaryKind.PACKAGE:
        _needs_and_offers(page, inspection)
    return page.text()


def _answer(inspection: Inspection) -> str:
    binary = inspection.binary
    name = inspection.path.replace("\\", "/").rpartition("/")[2]
    state = "intact in form" if binary.is_intact else "damaged"
    if binary.is_intact and inspection.is_at_fault:
        state = "and not what it should be" if inspection.is_altered else "and signed by an untrusted publisher"
    noun = {
        "script": "script",
        "java": "archive or class file",
        "msi": "install package (MSI)",
        "cabinet": "cabinet",
    }.get(binary.format, str(binary.kind))
    article = "an" if noun[0] in "aio" else "a"
    architectures = " and ".join((binary.architecture, *binary.also_for)).replace(Architecture.ANY, "any processor")
    return f"{name} is {article} {_FORMATS[binary.format]}{noun} for {architectures}, {state}."


def _needs_and_offers(page: Page, inspection: Inspection) -> None:
    binary = inspection.binary
    nouns = ("interpreter", "interpreters") if binary.format is Format.SCRIPT else ("library", "libraries")
    page.heading(f"Needs {count_of(len(binary.needs), *nouns)}" if binary.needs else f"Needs no {nouns[1]}")
    for need in binary.needs:
        page.line(need.name + ("" if need.how is Necessity.REQUIRED else f" ({need.how})"))
    if inspection.exports is not None:
        page.heading(f"Offers {count_of(len(inspection.exports), 'name')}")
        for export in inspection.exports:
            page.line(export)


def _facts(inspection: Inspection) -> list[tuple[str, str | None]]:
    """Facts that only files of this format have."""
    binary = inspection.binary
    if isinstance(binary, Elf):
        return [("loader", binary.interpreter), ("RPATH", binary.rpath), ("RUNPATH", binary.runpath)]
    if binary.format is Format.MACHO:
        return _mac_facts(binary, inspection.signed)
    return _hosted_facts(binary) if binary.format in {Format.SCRIPT, Format.JAVA} else []


def _hosted_facts(binary: Binary) -> list[tuple[str, str | None]]:
    """Facts of a script or an archive about the program that runs it."""
    from fundamen.formats.managed.java import JavaClasses  # noqa: PLC0415 - only for files of these formats
    from fundamen.formats.unix.script import Script  # noqa: PLC0415

    if isinstance(binary, Script):
        return [
            ("run by", binary.looked_up or binary.handed_over_to or binary.interpreter),
            ("first line", f"#!{binary.interpreter} {binary.argument}".rstrip(" ")),
        ]
    if not isinstance(binary, JavaClasses):
        return []
    newest = f", as class {binary.newest_class} is" if binary.newest_class else ""
    facts: list[tuple[str, str | None]] = [("compiled", f"for Java {binary.java}{newest}" if binary.java else None)]
    facts += [("main class", binary.main_class), *(("class path", entry) for entry in binary.class_path)]
    return facts + [("brings", native.name) for native in binary.natives]


def _mac_facts(binary: Binary, signed: tuple[str, ...]) -> list[tuple[str, str | None]]:
    """The search path, and of each slice for what it is made and how it is signed."""
    from fundamen.formats.mac.macho import MachO  # noqa: PLC0415 - only for files of this format

    slices = binary.slices if isinstance(binary, MachO) else ()
    facts: list[tuple[str, str | None]] = [
        ("run path", run_path) for run_path in dict.fromkeys(path for part in slices for path in part.run_paths)
    ]
    for part, words in zip(slices, signed, strict=True):
        made_for = f"for macOS {part.minimum_os} or later, " if part.minimum_os and part.platform == 1 else ""
        facts.append((part.architecture, made_for + words))
    return facts


def _add_managed(page: Page, managed: Managed) -> None:
    """The runtime and the references of a managed image."""
    facts = [
        ("managed", f"yes, for {managed.width}"),
        ("but only", "a reference assembly: to compile against; no runtime takes it" if managed.is_reference else None),
        ("assembly", str(managed.assembly) if managed.assembly else None),
        ("framework", managed.target_framework or f"the one of runtime {managed.runtime_version}"),
        *(("refers to", str(reference)) for reference in managed.references),
        *(("calls into", library) for library in managed.native_libraries),
    ]
    for label, value in facts:
        if value is not None:
            page.field(label, value, indent=2)
