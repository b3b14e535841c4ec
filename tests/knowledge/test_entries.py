"""Our own knowledge keeps its rules; an organisation's is checked when it is loaded."""

from pathlib import Path

import pytest

from builders.texts import OWN_MESSAGES
from conftest import Fundamen
from fundamen.clues.findings import find_in_line
from fundamen.clues.scanning import Scanner
from fundamen.knowledge.entries import ABOUT, Code, KnownMessage, LineRole, check_entries, load_knowledge
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import HostPath

KNOWN = load_knowledge()
SCANNER = Scanner(KNOWN)
ENTRIES: list[KnownMessage | Code] = [*(message for message, _ in KNOWN.messages), *KNOWN.codes.values()]


def test_at_least_150_codes_and_message_families_are_known_each_with_its_source() -> None:
    check_entries(KNOWN, "our own", ENTRIES)
    assert len(KNOWN.messages) >= 150
    assert len(KNOWN.codes) >= 150
    assert all(entry.source and entry.samples and entry.about in ABOUT for entry in ENTRIES)
    assert len({entry.id for entry in ENTRIES}) == len(ENTRIES)


def test_each_entry_is_found_in_its_own_samples_as_they_stand_in_a_log() -> None:
    """By the words that logs are searched for, and none of them undoes itself."""
    for entry in ENTRIES:
        for sample in entry.samples:
            finding = find_in_line(KNOWN, SCANNER, " ".join(sample.split()), 1)
            assert finding is not None, sample
            assert isinstance(entry, KnownMessage) or entry in finding.codes, sample
            assert entry.role is not LineRole.CAUSE or not (finding.is_aside or finding.is_quiet), sample


def test_an_organisations_own_messages_are_known_once_they_lie_in_its_folder(fundamen: Fundamen, home: Path) -> None:
    (home / "knowledge").mkdir(parents=True)
    (home / "knowledge" / "tides.toml").write_text(OWN_MESSAGES)
    ran = fundamen("clues", "--only-read", "--text", "TIDE-12: gauge south mole is locked by it4")
    assert (ran.status, ran.out.splitlines()[0]) == (1, "The gauge south mole is locked by it4.")
    assert "the last watch did not log off" in ran.out


@pytest.mark.parametrize(
    ("change", "why"),
    [
        (("TIDE-77: gauge", "TIDE-77: buoy"), "not found in its own sample"),
        (('about = "blocked"', 'about = "odd"'), "is about 'odd'"),
        (("{name} is locked by {user}", "{name}{user}"), "side by side"),
        (('id = "tide-lock"', 'id = "elf-library-missing"'), "is defined twice"),
        (("means", "meant"), "unknown field"),
        (("[[message]]", "[[message"), "line 2"),
        (("source =", "role = 'cause of all'\nsource ="), "cause of all"),
    ],
)
def test_knowledge_that_breaks_a_rule_is_refused_with_its_reason(
    tmp_path: Path, change: tuple[str, str], why: str
) -> None:
    (tmp_path / "bad.toml").write_text(OWN_MESSAGES.replace(*change, 1))
    with pytest.raises(UnreadableError) as refused:
        load_knowledge([HostPath(str(tmp_path))])
    assert "bad.toml" in refused.value.what
    assert why in refused.value.why
