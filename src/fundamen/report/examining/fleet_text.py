"""Many machines as text, and their table in other forms."""

import csv
import io
from collections import Counter

from fundamen.model.display import printable
from fundamen.model.errors import UsageError
from fundamen.report.page import Page, count_of, some_of
from fundamen.survey.fleet import Fleet

_MOST_SHOWN, _MOST_NAMED = 15, 4


def fleet_text(fleet: Fleet, *, verbose: bool, drawn: bool) -> str:
    """The page: shared faults, who stands out, and what stands where in several versions."""
    page = Page(drawn=drawn)
    page.answer(answer(fleet), good=not fleet.faults)
    if fleet.faults:
        page.heading("Faults, the one that most machines share first")
        for fault in fleet.faults if verbose else fleet.faults[:_MOST_SHOWN]:
            page.line(f"{fault.name}: {fault.verdict}; stops {count_of(fault.programs, 'program')}")
            page.field("on", _some(fault.machines, verbose=verbose), width=4)
        page.more(0 if verbose else len(fleet.faults) - _MOST_SHOWN)
    if fleet.outliers:
        page.heading("Machines that differ from the others")
        rows = [
            (o.machine, o.component, o.version or "not there", f"{o.alike} have {o.usual or 'none'}")
            for o in fleet.outliers
        ]
        page.columns(rows if verbose else rows[:_MOST_SHOWN])
        page.more(0 if verbose else len(rows) - _MOST_SHOWN)
    several = {n: Counter(f.values()) for n, f in fleet.components.items() if len(set(f.values())) > 1}
    if several:
        page.heading("Components in several versions")
        listed = sorted(several.items(), key=lambda item: (-len(item[1]), item[0]))
        for name, versions in listed if verbose else listed[:_MOST_SHOWN]:
            page.columns([(name, ", ".join(f"{version} on {count}" for version, count in versions.most_common()))])
        page.more(0 if verbose else len(listed) - _MOST_SHOWN)
        page.line("--write fleet.csv has the whole table.")
    if fleet.refused:
        page.heading("Not counted")
        for each in fleet.refused:
            page.line(f"{each.path}: {each.why}")
    return page.text()


def answer(fleet: Fleet) -> str:
    """The fault that most machines share, in one sentence."""
    machines = count_of(len(fleet.machines), "machine")
    if not fleet.faults:
        return f"{machines}: no fault on any of them."
    first = fleet.faults[0]
    count = len({machine for fault in fleet.faults for machine in fault.machines})
    return f"{machines}, {count} of them with a fault; {len(first.machines)} share {first.name}, {first.verdict}."


def _some(names: tuple[str, ...], *, verbose: bool) -> str:
    return f"{len(names)}: {some_of(names, None if verbose else _MOST_NAMED)}"


def fleet_csv(fleet: Fleet) -> bytes:
    """The table: a row for each component of each machine (RFC 4180)."""
    text = io.StringIO()
    writer = csv.writer(text)
    writer.writerow(("machine", "component", "version"))
    for component, found in fleet.components.items():
        writer.writerows((_plain(machine), _plain(component), _plain(version)) for machine, version in found.items())
    return text.getvalue().encode("utf-8")


def _plain(text: str) -> str:
    """Text that no program that reads tables takes for a formula."""
    cell = printable(text)
    return f"'{cell}" if cell[:1] in {"=", "+", "-", "@"} else cell


def fleet_parquet(fleet: Fleet) -> bytes:
    """The same table as Apache Parquet. Raises: UsageError: the library for it is not installed."""
    try:
        import pyarrow as pa  # noqa: PLC0415 - loaded only where such a table is asked for
        from pyarrow import parquet  # noqa: PLC0415
    except ImportError as error:
        raise UsageError(
            what="No Parquet file can be written",
            why="the library for it is not installed",
            do="pip install 'fundamen[tables]', or write a .csv, which needs nothing.",
        ) from error
    rows = [
        (machine, component, version) for component, f in fleet.components.items() for machine, version in f.items()
    ]
    columns = {
        name: [printable(row[place]) for row in rows] for place, name in enumerate(("machine", "component", "version"))
    }
    target = io.BytesIO()
    parquet.write_table(pa.table(columns), target)
    return target.getvalue()
