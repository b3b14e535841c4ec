"""What a package's installation gives its programs is read from its script, as far as it gives it to everybody."""

import pytest

from builders.machine import ALinuxMachine
from fundamen.evidence.debian_capabilities import capabilities_given_to
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
    assert capabilities_given_to(linux.opened(), MachinePath(PROGRAM)) == given
