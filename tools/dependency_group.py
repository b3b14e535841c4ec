"""Print the requirements of one of pyproject.toml's dependency groups, one a line."""

import sys
import tomllib
from pathlib import Path

project = tomllib.loads((Path(__file__).parent.parent / "pyproject.toml").read_text())
print("\n".join(project["dependency-groups"][sys.argv[1]]))
