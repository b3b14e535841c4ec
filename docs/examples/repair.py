"""Rehearse the repair of a program, carry it out if it helps, and undo it if the program is not well then.

Run: python repair.py PROGRAM [MACHINE]. Trust a source first: fundamen sources trust.
"""

import sys

from fundamen import Session


def main(program: str, root: str | None = None) -> int:
    """Repair the program; give 0 where it has no fault any more."""
    session = Session(note=print)
    rehearsal = session.rehearse(program, machine=root)
    print(f"{len(rehearsal.prepared.work.steps)} steps, {rehearsal.faults_after} faults would remain")
    if not rehearsal.is_offered or rehearsal.faults_after:
        return 1
    done = session.perform(rehearsal)
    print(f"restoration {done.number}: {'well' if done.is_well else 'not well'}")
    if not done.is_well:
        session.undo(done.number, machine=root)
    return 0 if done.is_well else 1


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]))
