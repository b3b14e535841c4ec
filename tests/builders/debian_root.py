"""What tests that make a Debian root need of the host."""

import os
import shutil
import sys

import pytest

MAKES_A_ROOT = [
    pytest.mark.system,
    pytest.mark.skipif(sys.platform != "linux" or os.geteuid() != 0, reason="only root may build a root"),
    pytest.mark.skipif(not shutil.which("debootstrap"), reason="no debootstrap"),
]
