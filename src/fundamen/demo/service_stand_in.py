"""A stand-in for systemd's tool, where no systemd runs: some services, kept in a file, with faults on order.

It answers the calls that Fundamen makes as systemctl(1) does. Called by a script of the name ``systemctl`` on PATH:

    exec python -m fundamen.demo.service_stand_in STATE "$@"

STATE is a file in JSON: name -> "active", "inactive", "failed", or "broken", which never starts.
"""

import json
import sys
from pathlib import Path

_NOT_ACTIVE, _UNKNOWN = 3, 4  # statuses, as systemctl(1) has them


def answer(state: Path, words: list[str]) -> tuple[int, str]:
    """(exit status, what is printed) of one call."""
    services: dict[str, str] = json.loads(state.read_text())
    verb, name = next(word for word in words if not word.startswith("-")), words[-1]
    now = services.get(name)
    match verb:
        case "is-active":
            answer = "failed" if now == "broken" else now or "inactive"
            return (0 if answer == "active" else _UNKNOWN if now is None else _NOT_ACTIVE), answer
        case "show":
            return 0, "not-found" if now is None else "loaded"
        case "start" | "stop" | "restart" if now is None:
            return _UNKNOWN + 1, f"Failed to {verb} {name}: Unit {name} not found."
        case "start" | "restart" if now == "broken":
            return 1, f"Job for {name} failed because the control process exited with error code."
        case "start" | "restart" | "stop":
            services[name] = "inactive" if verb == "stop" else "active"
            state.write_text(json.dumps(services))
            return 0, ""
    return 1, f"Unknown command verb '{verb}'."


def main() -> None:
    """Answer the call on the command line."""
    status, said = answer(Path(sys.argv[1]), sys.argv[2:])
    if said:
        print(said)  # noqa: T201 - it is a program of its own
    sys.exit(status)


if __name__ == "__main__":
    main()
