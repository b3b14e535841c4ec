"""Foresee what an install package will conclude on a machine, action by action, without running any of it.

Source: Windows Installer reference, "Using a Sequence Table"; of the actions AppSearch, FindRelatedProducts,
LaunchConditions, CostFinalize and custom actions of types 19, 35 and 51. The sequence is the one without dialogs.
"""

from collections.abc import Iterable, Iterator, Mapping
from enum import IntEnum, IntFlag

import msgspec

from fundamen.formats.archives.msi_condition import Value, evaluate
from fundamen.formats.archives.msi_database import Database, Row
from fundamen.formats.decimal import read_decimal
from fundamen.installers.msi_properties import UNKNOWN, machine_properties
from fundamen.installers.msi_searches import Searches, SearchResult, format_text, packed_code
from fundamen.machine.machine import EntryKind, Machine
from fundamen.messages import UNSAID, Message, as_said, say
from fundamen.model.paths import MachinePath

_INSTALLER = r"HKLM\Software\Microsoft\Windows\CurrentVersion\Installer"
_PRODUCTS = rf"{_INSTALLER}\UserData\S-1-5-18\Products"
_UPGRADES = rf"{_INSTALLER}\UpgradeCodes"
_USUAL = ("FindRelatedProducts", "AppSearch", "LaunchConditions", "CostFinalize")  # where a package has no sequence
_KIND = 0x3F
_64_BIT = ("x64", "amd64", "arm64", "intel64")
_MOST_STEPS = 5_000


class CustomKind(IntEnum):
    """Custom actions that run nothing. Source: "Summary List of All Custom Action Types"."""

    MESSAGE = 19
    SET_FOLDER = 35
    SET_PROPERTY = 51


class UpgradeFlag(IntFlag):
    """Values of Upgrade.Attributes."""

    ONLY_DETECT = 0x2
    MINIMUM_INCLUDED = 0x100
    MAXIMUM_INCLUDED = 0x200


class Judged(msgspec.Struct, frozen=True):
    """A condition with what it comes to here."""

    what: str  # the thing that it decides about
    condition: str
    holds: bool | None  # None: it is not known
    asked: tuple[tuple[str, Value], ...]  # what it asks about, with the values here
    says: str = ""  # the message for the person
    problem: Message = UNSAID  # why it cannot be evaluated


class Related(msgspec.Struct, frozen=True):
    """An earlier or later version that is registered."""

    code: str
    name: str
    version: str
    property: str  # that it is recognised by
    is_removed: bool  # whether the package will remove it
    leftover: str = ""  # its folder, which is registered and is not there


class PackagePart(msgspec.Struct, frozen=True):
    """A feature, and whether it will be installed."""

    name: str
    title: str
    is_chosen: bool | None


class Conclusion(msgspec.Struct, frozen=True):
    """All that a package will conclude."""

    searches: tuple[SearchResult, ...]
    related: tuple[Related, ...]
    launch: tuple[Judged, ...]  # launch conditions, and messages that stop the run
    parts: tuple[PackagePart, ...]
    components: tuple[Judged, ...]  # those that depend on a condition
    actions: tuple[Judged, ...]  # code of its own, with when it is run
    properties: dict[str, str]  # as they are when files are about to be copied
    overrulers: tuple[str, ...] = ()  # properties that can be given, asked about beside one that a leftover has filled

    @property
    def hindrances(self) -> tuple[Judged, ...]:
        """Reasons that will stop the run."""
        return tuple(each for each in self.launch if each.holds is False)

    @property
    def leftovers(self) -> tuple[str, ...]:
        """The places that are registered, will be believed, and are not there."""
        searched = (each.leftover for each in self.searches)
        return tuple(filter(None, (*searched, *(each.leftover for each in self.related))))


def conclude(machine: Machine, database: Database, given: Mapping[str, str]) -> Conclusion:
    """Foresee the decisions of a package on a machine.

    Args:
        machine: of Windows.
        database: the package.
        given: properties as on the command line.
    """
    run = _Run(machine, database, given)
    for action, condition in _sequence(database):
        run.act(action, condition)
    return run.conclusion()


def is_for_64_bits(database: Database) -> bool:
    """Whether a package is for 64 bits. Source: "Template Summary"."""
    return database.template.partition(";")[0].lower() in _64_BIT


def _sequence(database: Database) -> list[tuple[str, str]]:
    """(action, condition) in their order."""
    rows = database.tables.get("InstallExecuteSequence", ())
    numbered = [
        (number, str(row.get("Action") or ""), str(row.get("Condition") or ""))
        for row in rows
        if isinstance(number := row.get("Sequence"), int) and number > 0
    ]
    listed = [(action, condition) for _, action, condition in sorted(numbered)]
    return listed[:_MOST_STEPS] or [(action, "") for action in _USUAL]


class _Run:
    def __init__(self, machine: Machine, database: Database, given: Mapping[str, str]) -> None:
        self._machine = machine
        self._database = database
        self._is_64_bit = is_for_64_bits(database)
        self._environment = {name.upper(): value for name, value in machine.environment.items()}
        own = {str(r["Property"]): str(r["Value"] or "") for r in database.tables.get("Property", ())}
        self._properties = {**machine_properties(machine, is_64_bit_package=self._is_64_bit), **own, **given}
        code = packed_code(own.get("ProductCode", ""))
        if code and machine.registry.values(rf"{_PRODUCTS}\{code}\InstallProperties") is not None:
            self._properties["Installed"] = "00:00:00"
        self._given = given
        self._custom = {str(row["Action"]): row for row in database.tables.get("CustomAction", ()) if "Action" in row}
        self._conditions: dict[str, list[Row]] = {}  # of each feature
        for row in database.tables.get("Condition", ()):
            self._conditions.setdefault(str(row.get("Feature_") or ""), []).append(row)
        self._searches: list[SearchResult] = []
        self._related: list[Related] = []
        self._launch: list[Judged] = []
        self._parts: tuple[PackagePart, ...] = ()
        self._components: tuple[Judged, ...] = ()
        self._actions: list[Judged] = []
        self._asked: dict[tuple[str, ...], None] = {}  # the symbols of each condition

    def conclusion(self) -> Conclusion:
        return Conclusion(
            searches=tuple(self._searches),
            related=tuple(self._related),
            launch=tuple(self._launch),
            parts=self._parts,
            components=self._components,
            actions=tuple(self._actions),
            properties=self._properties,
            overrulers=tuple(self._overrulers()),
        )

    def _overrulers(self) -> Iterator[str]:
        searched = {each.property for each in self._searches}
        misled = {each.property for each in self._searches if each.leftover}
        misled |= {each.property for each in self._related if each.leftover}
        for names in self._asked:
            if misled & set(names):
                yield from (name for name in names if name.isupper() and name not in searched | misled)

    def act(self, action: str, condition: str) -> None:
        """Do one action of the sequence, as far as it only finds something out."""
        custom = self._custom.get(action)
        judged = self._judge_condition(action, condition)
        if judged.holds is False:
            if custom is not None and self._is_code(custom):
                self._actions.append(judged)
            return
        match action:
            case "AppSearch":
                self._search()
            case "FindRelatedProducts":
                self._related += self._products()
            case "LaunchConditions":
                rows = self._database.tables.get("LaunchCondition", ())
                self._launch += [
                    msgspec.structs.replace(
                        self._judge_condition("the run", str(row.get("Condition") or "")),
                        says=self._format_text(str(row.get("Description") or "")),
                    )
                    for row in rows
                ]
            case "CostFinalize":
                self._parts = tuple(self._features())
                self._components = tuple(
                    self._judge_condition(str(row["Component"]), str(row["Condition"]))
                    for row in self._database.tables.get("Component", ())
                    if row.get("Condition")
                )
            case _ if custom is not None:
                self._act_by(custom, judged)

    def _act_by(self, custom: Row, judged: Judged) -> None:
        kind = custom.get("Type")
        source, target = str(custom.get("Source") or ""), str(custom.get("Target") or "")
        match kind & _KIND if isinstance(kind, int) else -1:
            case CustomKind.SET_PROPERTY if judged.holds:
                self._set(source, self._format_text(target))
            case CustomKind.SET_FOLDER if judged.holds:
                self._set(source, self._format_text(target))
            case CustomKind.MESSAGE:
                holds = None if judged.holds is None else not judged.holds
                says = self._format_text(target)
                self._launch.append(msgspec.structs.replace(judged, what="the run", holds=holds, says=says))
            case _ if self._is_code(custom):
                self._actions.append(judged)

    @staticmethod
    def _is_code(custom: Row) -> bool:
        kind = custom.get("Type")
        return not isinstance(kind, int) or kind & _KIND not in set(CustomKind)

    def _set(self, name: str, value: str) -> None:
        if value:
            self._properties[name] = value
        else:
            self._properties.pop(name, None)

    def _search(self) -> None:
        searches = Searches(self._machine, self._database, self._format_text, is_64_bit=self._is_64_bit)
        for found in searches.all():
            self._searches.append(found)
            if found.value:
                self._set(found.property, found.value)

    def _products(self) -> Iterator[Related]:
        """The registered products that the table Upgrade asks for."""
        for row in self._database.tables.get("Upgrade", ()):
            code, action_property = packed_code(str(row.get("UpgradeCode") or "")), str(row.get("ActionProperty") or "")
            flags = UpgradeFlag(row["Attributes"]) if isinstance(row.get("Attributes"), int) else UpgradeFlag(0)  # type: ignore[arg-type]
            for product in self._machine.registry.values(rf"{_UPGRADES}\{code}") or {} if code else {}:
                related = self._product(product, action_property, flags)
                if related is not None and _is_between(related.version, row, flags):
                    codes = list(filter(None, [self._properties.get(action_property, ""), related.code]))
                    self._set(action_property, ";".join(codes))
                    yield related

    def _product(self, packed: str, action_property: str, flags: UpgradeFlag) -> Related | None:
        values = self._machine.registry.values(rf"{_PRODUCTS}\{packed}\InstallProperties")
        if values is None or packed == packed_code(self._properties.get("ProductCode", "")):
            return None
        texts = {name.lower(): value for name, value in values.items() if isinstance(value, str)}
        folder = texts.get("installlocation", "").strip()
        is_gone = bool(folder) and self._machine.look(MachinePath(folder.rstrip("\\"))).kind is EntryKind.ABSENT
        return Related(
            code=_unpack_code(packed),
            name=texts.get("displayname", packed),
            version=texts.get("displayversion", ""),
            property=action_property,
            is_removed=not flags & UpgradeFlag.ONLY_DETECT,
            leftover=folder if is_gone else "",
        )

    def _features(self) -> Iterator[PackagePart]:
        """Which features are chosen. Source: tables Feature and Condition; the property ADDLOCAL."""
        rows = {str(row["Feature"]): row for row in self._database.tables.get("Feature", ())}
        limit = _whole(self._properties.get("INSTALLLEVEL", "1"), 1)
        asked_for = {name.strip() for name in self._given.get("ADDLOCAL", "").split(",") if name.strip()}
        levels = {name: self._level(name, row) for name, row in rows.items()}
        chosen: dict[str, bool | None] = {}
        for name in rows:
            level = levels[name]
            by_level = None if level is None else 0 < level <= limit
            chosen[name] = (name in asked_for or "ALL" in asked_for) and level != 0 if asked_for else by_level
        for name, row in rows.items():
            above = str(row.get("Feature_Parent") or "")
            held = chosen[name]
            if above in chosen and chosen[above] is False and not asked_for:
                held = False
            yield PackagePart(name, str(row.get("Title") or ""), held)

    def _level(self, feature: str, row: Row) -> int | None:
        level = row.get("Level")
        found: int | None = level if isinstance(level, int) else 0
        for each in self._conditions.get(feature, ()):
            holds = self._judge_condition(feature, str(each.get("Condition") or "")).holds
            if holds is None:
                return None
            if holds:
                other = each.get("Level")
                found = other if isinstance(other, int) else 0
        return found

    def _judge_condition(self, what: str, condition: str) -> Judged:
        try:
            found = evaluate(condition, self._look_up)
        except ValueError as error:
            return Judged(what, condition, None, (), problem=as_said(str(error)))
        self._asked[tuple(name for name, _ in found.asked)] = None
        return Judged(what, condition, found.holds, found.asked)

    def _look_up(self, symbol: str) -> Value:
        match symbol[:1]:
            case "%":
                return self._environment.get(symbol[1:].upper(), None if not self._environment else "")
            case "$" | "?" | "&" | "!":
                return None
            case _:
                if symbol in self._properties:
                    return self._properties[symbol]
                return None if symbol in UNKNOWN else ""

    def _format_text(self, text: str) -> str:
        return format_text(text, self._properties, self._environment)


def _is_between(version: str, row: Row, flags: UpgradeFlag) -> bool:
    numbers = _version(version)
    least, most = str(row.get("VersionMin") or ""), str(row.get("VersionMax") or "")
    if least and (
        numbers < _version(least) or (numbers == _version(least) and not flags & UpgradeFlag.MINIMUM_INCLUDED)
    ):
        return False
    return (
        not most
        or numbers < _version(most)
        or (numbers == _version(most) and bool(flags & UpgradeFlag.MAXIMUM_INCLUDED))
    )


def _version(text: str) -> tuple[int, ...]:
    """The three parts of a product's version that count. Source: "ProductVersion"."""
    return tuple(_whole(part, 0) for part in (*text.split("."), "0", "0", "0"))[:3]


def _whole(text: str, otherwise: int) -> int:
    number = read_decimal(text.strip())
    return otherwise if number is None else number


def _unpack_code(packed: str) -> str:
    """A code as people write it, from the form of the registry's keys."""
    parts = (packed[:8][::-1], packed[8:12][::-1], packed[12:16][::-1])
    tail = "".join(packed[at + 1 : at + 2] + packed[at] for at in range(16, len(packed), 2))
    return f"{{{'-'.join((*parts, tail[:4], tail[4:]))}}}"


def describe_changes(before: Conclusion, after: Conclusion) -> Iterable[Message]:
    """Differences of two forecasts, in words."""
    pairs: list[tuple[str, Mapping[str, object], Mapping[str, object]]] = [
        ("feature", {p.name: p.is_chosen for p in before.parts}, {p.name: p.is_chosen for p in after.parts}),
        ("component", {c.what: c.holds for c in before.components}, {c.what: c.holds for c in after.components}),
        ("action", {a.what: a.holds for a in before.actions}, {a.what: a.holds for a in after.actions}),
        ("condition", {j.condition: j.holds for j in before.launch}, {j.condition: j.holds for j in after.launch}),
        ("property", before.properties, after.properties),
    ]
    for kind, old, new in pairs:
        for name in dict.fromkeys((*old, *new)):
            if old.get(name) != new.get(name):
                before_it, after_it = (_value_text(each[name]) if name in each else "not set" for each in (old, new))
                yield say("installers.changes-with-the-properties", kind=kind, name=name, old=before_it, new=after_it)


def _value_text(value: object) -> str:
    if isinstance(value, str):
        return value or "empty"
    return "not known" if value is None else "yes" if value else "no"
