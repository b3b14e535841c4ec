"""Many machines by their captures: what stands where in which version, which faults they share, and who stands out."""

from collections import Counter, defaultdict
from collections.abc import Callable, Iterable, Sequence

import msgspec

from fundamen.formats.capture_file import Summary, is_capture, read_summary
from fundamen.messages import Message, say
from fundamen.model.errors import InternalError, UnreadableError
from fundamen.model.isolation import Isolated
from fundamen.model.paths import HostPath

_LEAST_ALIKE = 3  # machines that must agree before another one stands out


class Refused(msgspec.Struct, frozen=True):
    """A capture that is not counted."""

    path: HostPath
    why: Message
    bug: InternalError | None = None  # of ours, where that is why


class Outlier(msgspec.Struct, frozen=True):
    """A machine that has a component in another version than nearly all others, or lacks it."""

    machine: str
    component: str
    version: str  # empty where it lacks it
    usual: str  # empty where nearly all others lack it
    alike: int  # how many machines have the usual one


class FleetFault(msgspec.Struct, frozen=True):
    """A fault, and the machines that share it."""

    name: str
    verdict: str
    machines: tuple[str, ...]
    programs: int  # that it stops, on all of them together


class Fleet(msgspec.Struct, frozen=True):
    """All of it."""

    machines: tuple[str, ...]
    components: dict[str, dict[str, str]]  # name -> machine -> version
    faults: tuple[FleetFault, ...]  # shared by most first
    outliers: tuple[Outlier, ...]
    refused: tuple[Refused, ...]


Read = Summary | Refused
Map = Callable[[Callable[[HostPath], Read], Sequence[HostPath]], Iterable[Read]]


def read_one(path: HostPath) -> Read:
    """The summary of one capture; why it is not counted where it has none."""
    try:
        with Isolated(path), open(path, "rb") as file:
            if not is_capture(file.read(4)):
                return Refused(path, say("survey.it-is-no-capture"))
            file.seek(0)
            return read_summary(file, path)
    except InternalError as error:
        return Refused(path, error.why, error)
    except UnreadableError as error:
        return Refused(path, error.why)


def read_fleet(paths: Sequence[HostPath], spread: Map = map) -> Fleet:
    """Lay many machines side by side.

    Args:
        paths: of their captures.
        spread: carries ``read_one`` out on each, in processes or on other hosts; the outcome is the same.
    """
    summaries: list[Summary] = []
    refused: list[Refused] = []
    for found in spread(read_one, paths):
        if isinstance(found, Summary):
            summaries.append(found)
        else:
            refused.append(found)
    names = _names(summaries)
    components: dict[str, dict[str, str]] = defaultdict(dict)
    faults: dict[tuple[str, str], list[tuple[str, int]]] = defaultdict(list)
    for name, summary in zip(names, summaries, strict=True):
        for component, version in summary.components.items():
            components[component][name] = version
        for fault in summary.faults:
            faults[fault.name, fault.verdict].append((name, fault.programs))
    shared = [
        FleetFault(name, verdict, tuple(machine for machine, _ in found), sum(count for _, count in found))
        for (name, verdict), found in faults.items()
    ]
    return Fleet(
        machines=tuple(names),
        components=dict(sorted(components.items())),
        faults=tuple(sorted(shared, key=lambda fault: (-len(fault.machines), -fault.programs, fault.name))),
        outliers=tuple(_outliers(names, components)),
        refused=tuple(refused),
    )


def _names(summaries: Sequence[Summary]) -> list[str]:
    """The machines' names; of several with one name each is distinguished by when its capture was made."""
    count = Counter(summary.machine for summary in summaries)
    seen: Counter[str] = Counter()
    names = []
    for summary in summaries:
        name = summary.machine
        if count[name] > 1:
            seen[name] += 1
            name = f"{name}, {summary.made_at:%Y-%m-%d %H:%M} ({seen[name]})"
        names.append(name)
    return names


def _outliers(names: Sequence[str], components: dict[str, dict[str, str]]) -> Iterable[Outlier]:
    """Of each component the one or two machines that have it otherwise than nearly all others."""
    for component, found in sorted(components.items()):
        versions = Counter(found.get(name, "") for name in names)
        usual, alike = versions.most_common(1)[0]
        others = [name for name in names if found.get(name, "") != usual]
        if alike >= _LEAST_ALIKE and len(others) * 10 <= len(names):
            for name in others:
                yield Outlier(name, component, found.get(name, ""), usual, alike)
