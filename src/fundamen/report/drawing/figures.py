"""Draw figures of a survey, of a comparison, and of many machines."""

from collections import Counter
from collections.abc import Iterator

from fundamen.report.drawing.charts import Bar, Chart, Figure, PageTable
from fundamen.report.examining.compare_text import answer as compare_answer
from fundamen.report.examining.fleet_text import answer as fleet_answer
from fundamen.report.examining.survey_text import answer as survey_answer
from fundamen.survey.comparing import NOTHING, About, MachineComparison, MachineDifference
from fundamen.survey.contents import AlterationKind
from fundamen.survey.fleet import Fleet
from fundamen.survey.survey import Survey

_MOST_BARS = 20


def survey_figure(survey: Survey, machine: str) -> Figure:
    """The causes that keep programs from starting, the widest first, and packages with changed files."""
    causes = survey.needs.causes
    bars = [
        Bar(cause.title, str(cause.component.verdict), (len(cause.programs), len(cause.libraries))) for cause in causes
    ]
    charts = [
        Chart("Causes, by what each one stops", ("programs that cannot start", "libraries that lack it"), _most(bars))
    ]
    rows = tuple(
        (cause.title, str(cause.component.verdict), cause.component.reason, ", ".join(cause.programs))
        for cause in causes
    )
    tables = [PageTable("Causes", ("cause", "verdict", "why", "stops"), rows)]
    if survey.contents is not None:
        own = [each for each in survey.altered if not each.is_setting]
        counts = Counter((each.package, each.finding) for each in own)
        packages = Counter(each.package for each in own)
        altered = [
            Bar(package, "", tuple(counts[package, finding] for finding in AlterationKind))
            for package, _ in packages.most_common()
        ]
        kinds = {
            AlterationKind.MISSING: "missing",
            AlterationKind.DIFFERS: "with other content",
            AlterationKind.BARRED: "not readable",
        }
        title = "Installed files that are not as their packages brought them"
        charts.append(Chart(title, tuple(kinds[finding] for finding in AlterationKind), _most(altered)))
        found = tuple((each.package, str(each.finding), each.path, each.detail or "") for each in own)
        tables.append(PageTable("Files", ("package", "found", "file", "detail"), found))
    title = f"{machine}: {survey_answer(survey)}"
    return Figure(title[0].upper() + title[1:], tuple(charts), tuple(tables))


def compare_figure(comparison: MachineComparison) -> Figure:
    """How many of each kind are only here, only there, or other."""
    bars = []
    for about in About:
        own = [each for each in comparison.differences if each.about is about]
        if own:
            only_here = sum(each.there == NOTHING for each in own)
            only_there = sum(each.here == NOTHING for each in own)
            bars.append(Bar(f"{about}s", "", (len(own) - only_here - only_there, only_here, only_there)))
    kinds = ("other there than here", "only here", "only there")
    heads = ("about", "name", f"here: {comparison.here}", f"there: {comparison.there}", "for")
    tables = [
        PageTable(title, heads, tuple(map(_row, rows))) for title, rows in _differences_by_effect(comparison) if rows
    ]
    chart = Chart(f"Here is {comparison.here}, there is {comparison.there}", kinds, tuple(bars))
    return Figure(compare_answer(comparison), (chart,), tuple(tables))


def _differences_by_effect(comparison: MachineComparison) -> Iterator[tuple[str, list[MachineDifference]]]:
    yield "Works on one and not on the other", [each for each in comparison.differences if each.is_decisive]
    yield "Other differences", [each for each in comparison.differences if not each.is_decisive]


def _row(each: MachineDifference) -> tuple[str, ...]:
    return (str(each.about), each.name, each.here, each.there, each.program)


def fleet_figure(fleet: Fleet) -> Figure:
    """Faults by how many machines share each; who stands out; what stands where in several versions."""
    bars = [Bar(fault.name, fault.verdict, (len(fault.machines),)) for fault in fleet.faults]
    faults = tuple(
        (fault.name, fault.verdict, str(len(fault.machines)), ", ".join(fault.machines)) for fault in fleet.faults
    )
    outliers = tuple(
        (o.machine, o.component, o.version or NOTHING, f"{o.alike} have {o.usual or 'none'}") for o in fleet.outliers
    )
    several = tuple(_versions(fleet))
    tables = (
        PageTable("Faults", ("fault", "verdict", "machines", "which"), faults),
        PageTable("Machines that differ from the others", ("machine", "component", "there", "others"), outliers),
        PageTable("Components in several versions", ("component", "version", "machines", "which"), several),
    )
    chart = Chart("Faults, by how many machines share each", ("machines",), _most(bars))
    return Figure(fleet_answer(fleet), (chart,), tuple(table for table in tables if table.rows))


def _versions(fleet: Fleet) -> Iterator[tuple[str, ...]]:
    for component, found in fleet.components.items():
        versions = Counter(found.get(machine, NOTHING) for machine in fleet.machines)
        if len(versions) > 1:
            for version, count in versions.most_common():
                which = (machine for machine in fleet.machines if found.get(machine, NOTHING) == version)
                yield component, version, str(count), ", ".join(which)


def _most(bars: list[Bar]) -> tuple[Bar, ...]:
    """The first ones, and how many more there are in a last one."""
    if len(bars) <= _MOST_BARS:
        return tuple(bars)
    rest = bars[_MOST_BARS - 1 :]
    counts = tuple(sum(column) for column in zip(*(bar.counts for bar in rest), strict=True))
    return (*bars[: _MOST_BARS - 1], Bar(f"{len(rest)} more together", "", counts))
