"""What a package's installation gives its programs is read from its script, as far as it gives it to everybody."""

import pytest

from builders.machine import ALinuxMachine
from fundamen.evidence.debian_given_rights import GivenRights, rights_given_to
from fundamen.model.paths import MachinePath

PROGRAM = "/usr/bin/sounder"


@pytest.mark.parametrize(
    ("script", "given"),
    [
        ("setcap cap_net_raw+ep /usr/bin/sounder", "cap_net_raw+ep"),
        ("P=$(dpkg-divert --truename /usr/bin/sounder)\nif setcap cap_net_raw+ep $P; then :; fi", "cap_net_raw+ep"),
        ('if [ $1 = x ]; then setcap "cap_net_raw,cap_kill=ep" /bin/sounder || true; fi', "cap_net_raw,cap_kill=ep"),
        (". /usr/share/debconf/confmodule\nsetcap cap_net_raw+ep /usr/bin/sounder", ""),
        ("setcap cap_net_raw+ep /usr/bin/other", ""),
        ("# setcap cap_net_raw+ep /usr/bin/sounder", ""),
        ("setcap -r /usr/bin/sounder $X", ""),
        ("X=$(cat /etc/it)\nsetcap cap_net_raw+ep $X", ""),
        ("if (((", ""),
    ],
)  # fmt: skip
def test_a_script_is_read_and_not_run(linux: ALinuxMachine, script: str, given: str) -> None:
    linux.packages({"sounder": {PROGRAM: b"\x7fELF"}}).link("/bin", "usr/bin")
    linux.file("/var/lib/dpkg/info/sounder.postinst", f"#!/bin/sh\nset -e\n{script}\n".encode())
    assert rights_given_to(linux.opened(), MachinePath(PROGRAM)).capabilities == given


@pytest.mark.parametrize(
    ("script", "given"),
    [
        ("chmod 4755 /usr/bin/sounder", GivenRights(MachinePath(PROGRAM), mode=0o4755)),
        (
            'own() {\n chmod $3 $4\n}\ncase "$1" in configure) own root tide 2755 /bin/sounder ;; esac',
            GivenRights(MachinePath(PROGRAM), mode=0o2755, owner="root", group="tide"),
        ),
        ("chmod u+s /usr/bin/sounder", GivenRights(MachinePath(PROGRAM))),  # it depends on what is there
        ("chmod 4755 $X", GivenRights(MachinePath(PROGRAM))),
        ("echo root tide 2755 /usr/bin/other", GivenRights(MachinePath(PROGRAM))),
    ],
)
def test_modes_and_owners_that_a_script_gives_are_read(linux: ALinuxMachine, script: str, given: GivenRights) -> None:
    linux.packages({"sounder": {PROGRAM: b"\x7fELF"}}).link("/bin", "usr/bin")
    linux.file("/var/lib/dpkg/info/sounder.postinst", f"#!/bin/sh\nset -e\n{script}\n".encode())
    assert rights_given_to(linux.opened(), MachinePath(PROGRAM)) == given
