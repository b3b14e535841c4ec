"""Run as ``python -m fundamen``."""

from fundamen.cli.main import main

if __name__ == "__main__":
    main()
