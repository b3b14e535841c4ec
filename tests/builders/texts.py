"""Small sound texts of several formats, for tests and for those that damage them."""

OWN_MESSAGES = """
[[message]]
id = "tide-lock"
says = ["TIDE-{code}: gauge {name} is locked by {user}"]
about = "blocked"
means = "The gauge {name} is locked by {user}."
likely = ["the last watch did not log off"]
source = "the harbour's own handbook, page 12"
samples = ["TIDE-77: gauge north quay is locked by it9"]
"""
GATHERED = (
    b"fundamen-gathered 1\nhost quay\ntime 2026-11-28T09:00:00Z\nprogram /opt/tide\nenvironment PATH=/bin\nwhole /opt\n"
    b"listing\n-rwsr-xr-x    1 0        0               4 Nov 28 09:00 /opt/tide\n"
    b"lrwxrwxrwx 1 0 0 4 Nov 28 2025 /opt/ebb -> tide\ncrw-rw-rw- 1 0 0 1, 3 Nov 28 09:00 /opt/null\n"
    b".\nfile 4 /opt/tide\nsea\nrefused /opt/own\nend\n"
)
UNIT = b"[Unit]\nDescription=Tides\n[Install]\nWantedBy=multi-user.target \\\n  sound.target\nAlias=%p-daemon.service\n"
