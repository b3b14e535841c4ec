"""A pipe or a device that is named as an input is reported at once, by every command; what is handed over is read."""

import os
import stat
from pathlib import Path

import pytest

from conftest import Fundamen

COMMANDS = {
    "trace": ("trace", "IT"),
    "inspect": ("inspect", "IT"),
    "clues": ("clues", "IT"),
    "build": ("build", "IT"),
    "installer": ("installer", "IT"),
    "prereqs": ("prereqs", "IT"),
    "a plan": ("plans", "run", "IT"),
    "a medium": ("sources", "offers", "x.dll", "--media", "IT"),
    "certificates": ("roots", "import", "--issuer", "IT", "/bin/sh"),
    "what was gathered": ("capture", "--from", "IT", "it.capture"),
    "a machine": ("trace", "-m", "IT", "/bin/sh"),
    "a lock file": ("locks", "check", "IT", "--artefacts", "."),
    "a folder to survey": ("survey", "IT"),
    "captures": ("fleet", "IT"),
}


@pytest.fixture(params=["a pipe", "a device", "a socket"])
def special(request: pytest.FixtureRequest, tmp_path: Path) -> str:
    if request.param == "a device":
        return os.devnull
    path = tmp_path / "it"
    os.mknod(path, 0o600 | (stat.S_IFIFO if request.param == "a pipe" else stat.S_IFSOCK))
    return str(path)


@pytest.mark.parametrize("command", COMMANDS)
def test_what_would_hold_us_up_is_reported_at_once(fundamen: Fundamen, command: str, special: str) -> None:
    ran = fundamen(*(special if word == "IT" else word for word in COMMANDS[command]))
    assert ran.status == 3, ran.out + ran.err
    assert ran.err.count("\n") == 3


def test_what_another_process_hands_over_is_read(fundamen: Fundamen) -> None:
    message = b"./t: error while loading shared libraries: libtide.so.4: cannot open shared object file: No such file\n"
    for name in ("/dev/stdin", "-"):
        assert "libtide.so.4" in fundamen("clues", "--only-read", name, given=message).out
