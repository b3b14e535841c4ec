"""A trace as a page, a picture and files for other tools: complete, accessible, harmless whatever files are called."""

import hashlib
import itertools
import json
import re
from datetime import UTC, datetime
from pathlib import Path
from xml.etree import ElementTree as ET

import pytest
from hypothesis import given
from hypothesis import strategies as st

from builders.machine import ALinuxMachine
from conftest import Fundamen
from fundamen.messages import as_said
from fundamen.model.architecture import Architecture
from fundamen.model.binary import Format, Necessity
from fundamen.model.paths import MachinePath
from fundamen.model.verdict import Verdict
from fundamen.report.drawing.picture import NODE_HEIGHT, NODE_WIDTH, WIDTH, lay_out
from fundamen.report.drawing.picture_svg import picture_svg
from fundamen.report.drawing.report_page import trace_page
from fundamen.report.drawing.trace_files import trace_dot
from fundamen.trace.records import Component, Trace

NOW = datetime(2026, 11, 28, 9, tzinfo=UTC)
_DOT_TEXT = r'"(?:[^"\\]|\\.)*"'
DOT_LINE = re.compile(
    rf"  n\d+ (?:-> n\d+(?: \[penwidth=2.5\])?|\[label={_DOT_TEXT}, tooltip={_DOT_TEXT}, style=\w+\]);|"
    r"  n\d+ -> n\d+;"
)
ROOT = Path(__file__).parent.parent.parent


def a_component(number: int, parent: int | None, verdict: Verdict, name: str = "") -> Component:
    """The component of a number; each of them lies at a path of its own and is needed by its parent."""
    is_program = parent is None
    path = MachinePath(f"/lib/{number}")
    return Component(
        name=name or f"lib{number}.so",
        kind="program" if is_program else "shared-library",
        verdict=verdict,
        reason=as_said("so it is"),
        how=Necessity.REQUIRED,
        path=None if verdict is Verdict.MISSING else path,
        wanted_architecture=Architecture.X86_64,
        architecture=Architecture.X86_64,
        version=None,
        unoffered=(),
        needed_by=() if is_program else (MachinePath(f"/lib/{parent}"),),
        chain=() if is_program else (MachinePath("/lib/0"), MachinePath(f"/lib/{parent}")),
        evidence=(),
        searched=(),
    )


@st.composite
def traces(draw: st.DrawFn, most: int = 60) -> Trace:
    """A program and libraries that need each other, of all verdicts."""
    count = draw(st.integers(1, most))
    verdicts = draw(st.lists(st.sampled_from(list(Verdict)), min_size=count, max_size=count))
    parents = [draw(st.integers(0, number - 1)) if number else None for number in range(count)]
    components = [a_component(n, p, v) for n, (p, v) in enumerate(zip(parents, verdicts, strict=True))]
    return Trace(MachinePath("/lib/0"), Format.ELF, Architecture.X86_64, tuple(components))


def of(count: int, name: str = "") -> Trace:
    """A program with so many libraries, two of which are at fault."""
    verdicts = [Verdict.VERIFIED] * count
    verdicts[-2:] = [Verdict.MISSING, Verdict.CORRUPT]
    parts = [a_component(n, None if n == 0 else (n - 1) // 4, v, name) for n, v in enumerate(verdicts)]
    return Trace(MachinePath("/lib/0"), Format.ELF, Architecture.X86_64, tuple(parts))


@given(traces())
def test_no_two_boxes_overlap_and_all_lie_within_the_picture(linux_root: Path, trace: Trace) -> None:
    picture = lay_out(trace, ALinuxMachine(linux_root).opened())
    assert len(picture.nodes) == len(trace.components)
    boxes = sorted((node.y, node.x) for node in picture.nodes)
    for (y1, x1), (y2, x2) in itertools.pairwise(boxes):
        assert y2 >= y1 + NODE_HEIGHT or (y1 == y2 and x2 >= x1 + NODE_WIDTH)
    assert all(0 <= x <= WIDTH - NODE_WIDTH and 0 <= y <= picture.height - NODE_HEIGHT for y, x in boxes)


@pytest.fixture(scope="module")
def linux_root(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("linux")


@pytest.mark.parametrize("count", [5, 100, 300])
def test_the_picture_shows_each_component_and_the_way_to_each_fault(linux_root: Path, count: int) -> None:
    machine = ALinuxMachine(linux_root).opened()
    picture = lay_out(of(count), machine)
    drawn = ET.fromstring(picture_svg(picture, "a title", standalone=True))  # noqa: S314 - our own
    space = "{http://www.w3.org/2000/svg}"
    assert len(drawn.findall(f"{space}g")) == len(picture.nodes) == count
    assert [title.text for title in drawn.findall(f"{space}title")] == ["a title"]
    leading = {edge.end for edge in picture.edges if edge.is_to_cause}
    for number in (count - 1, count - 2):  # each step from a fault up to the program is drawn thick
        at = number
        while at:
            assert at in leading
            at = (at - 1) // 4


def test_the_page_is_small_whole_and_readable_without_seeing_it(linux_root: Path) -> None:
    page = trace_page(of(100), ALinuxMachine(linux_root).opened(), NOW)
    assert len(page.encode()) < 400 << 10
    assert not re.search(r"<script|\bsrc=|\bhref=\"(?!#)|@import|url\(", page)
    assert '<html lang="en">' in page
    assert [len(found) for found in (re.findall("<h1", page), re.findall('role="img"', page))] == [1, 1]
    assert page.count("<table") == page.count("<caption") == 2
    assert page.count("<th ") == page.count('<th scope="col"')
    marks = re.findall(r'<svg class="mark"[^>]*aria-hidden="true".*?</svg><span[^>]*>([a-z-]+)</span>', page)
    assert len(marks) == 102  # each mark is followed by its word


def luminance(colour: str) -> float:
    """Source: WCAG 2.2, "relative luminance"."""
    parts = [int(colour[at : at + 2], 16) / 255 for at in (1, 3, 5)]
    linear = [part / 12.92 if part <= 0.04045 else ((part + 0.055) / 1.055) ** 2.4 for part in parts]
    return 0.2126 * linear[0] + 0.7152 * linear[1] + 0.0722 * linear[2]


def test_every_colour_of_text_stands_out_from_every_ground_by_4_5_to_1() -> None:
    style = (ROOT / "src/fundamen/report/drawing/report_page.css").read_text()
    texts = {*re.findall(r"(?<![-\w])color:(#[0-9a-f]{6})", style), "#20262b"}
    grounds = {*re.findall(r"background:(#[0-9a-f]{6})", style), "#fffefb", "#fbeee8"}  # the boxes' own, too
    assert len(texts) > 3
    for text in texts:
        for ground in grounds:
            light, dark = sorted((luminance(text), luminance(ground)), reverse=True)
            assert (light + 0.05) / (dark + 0.05) >= 4.5, (text, ground)


@pytest.mark.parametrize("hostile", ["</svg><script>alert(1)</script>", '"];n0->n1;"', "\x1b[2J\x00", "\udc80"])
def test_a_hostile_name_does_nothing_in_any_form(linux_root: Path, hostile: str) -> None:
    machine = ALinuxMachine(linux_root).opened()
    trace = of(5, hostile)
    page = trace_page(trace, machine, NOW)
    assert "<script>" not in page
    assert "\x1b" not in page
    ET.fromstring(picture_svg(lay_out(trace, machine), hostile, standalone=True).encode("utf-8", "replace"))  # noqa: S314
    for line in trace_dot(trace, machine).splitlines()[2:-1]:
        assert DOT_LINE.fullmatch(line), line


def test_the_bill_of_materials_has_each_file_with_its_digest_and_what_it_needs(
    fundamen: Fundamen, linux: ALinuxMachine, tmp_path: Path
) -> None:
    linux.program("/opt/tidebook", needs=["libtide.so.2"]).library("/usr/lib64/libtide.so.2")
    ran = fundamen("trace", "-q", "--machine", str(linux.root), "--write", "t.cdx.json", "/opt/tidebook")
    assert ran.status == 0, ran.err
    bom = json.loads((tmp_path / "t.cdx.json").read_text())
    assert (bom["bomFormat"], bom["specVersion"]) == ("CycloneDX", "1.6")
    by_name = {part["name"]: part for part in [bom["metadata"]["component"], *bom["components"]]}
    digest = hashlib.sha256((linux.root / "usr/lib64/libtide.so.2").read_bytes()).hexdigest()
    assert by_name["libtide.so.2"]["hashes"] == [{"alg": "SHA-256", "content": digest}]
    needs = {each["ref"]: each["dependsOn"] for each in bom["dependencies"]}
    assert by_name["libtide.so.2"]["bom-ref"] in needs[by_name["tidebook"]["bom-ref"]]
    assert set(needs) == {part["bom-ref"] for part in by_name.values()}


def test_files_are_written_as_their_names_ask_and_never_over_others(
    fundamen: Fundamen, linux: ALinuxMachine, tmp_path: Path
) -> None:
    linux.program("/opt/tidebook", needs=["libtide.so.2"])
    on = ("trace", "--machine", str(linux.root))
    assert fundamen(*on, "--write", "a.html", "--write", "a.svg", "--write", "a.dot", "/opt/tidebook").status == 1
    assert (tmp_path / "a.html").read_text().startswith("<!doctype html>")
    assert (tmp_path / "a.svg").read_text().startswith("<svg xmlns=")
    assert (tmp_path / "a.dot").read_text().startswith("digraph")
    for words, why in (
        (("--write", "a.html", "/opt/tidebook"), "there already"),
        (("--write", "a.doc", "/opt/tidebook"), "ends in none of"),
        (("--write", "b.html", "/opt/tidebook", "/opt/tidebook"), "2 programs"),
    ):
        ran = fundamen(*on, *words)
        assert (ran.status, why in ran.err) == (2, True), ran.err
    assert fundamen(*on, "--write", "/proc/none/a.html", "/opt/tidebook").status == 3


def test_a_case_becomes_a_page_with_its_record(fundamen: Fundamen, linux: ALinuxMachine, tmp_path: Path) -> None:
    linux.program("/opt/tidebook", needs=["libtide.so.2"])
    on = ("--machine", str(linux.root))
    fundamen("case", "open", "Tidebook does not start")
    assert fundamen("case", "report", *on, "case.html").status == 2  # no program is known yet
    fundamen("trace", *on, "/opt/tidebook")
    fundamen("case", "tried", "start-anew", "--nothing")
    linux.library("/usr/lib64/libtide.so.2")
    assert fundamen("case", "report", *on, "case.html").status == 0
    page = (tmp_path / "case.html").read_text()
    for said in ("The record of case 1", "tidebook has all that it needs", "(changed nothing)", "fundamen trace"):
        assert said in page
    [row] = re.findall(r"<tr><td><code>libtide.so.2</code></td>(.*?)</tr>", page.partition("Before and now")[2])[:1]
    assert re.findall(r"</svg><span[^>]*>([a-z]+)<", row) == ["missing", "unverified"]


@pytest.mark.system
def test_the_picture_becomes_a_png(fundamen: Fundamen, linux: ALinuxMachine, tmp_path: Path) -> None:
    linux.program("/opt/tide$book$", needs=["lib$x$.so"])
    assert fundamen("trace", "--machine", str(linux.root), "--write", "a.png", "/opt/tide$book$").status == 1
    data = (tmp_path / "a.png").read_bytes()
    assert data.startswith(b"\x89PNG\r\n\x1a\n")
    assert int.from_bytes(data[16:20], "big") == 2 * WIDTH
