"""Sentences and clauses of ``api``, by their codes."""

TEXTS = {
    "no-plan-is-written": "No plan is written",
    "there-is-nothing-to-do": "there is nothing to do",
    "trace-the-program-to-see-why": "Trace the program to see why.",
    "nothing-is-rehearsed": "Nothing is rehearsed",
    "no-program-was-named": "no program was named",
    "name-the-programs-to-repair": "Name the programs to repair.",
    "nothing-is-repaired": "Nothing is repaired",
    "there-is-nothing-to-do-or": "there is nothing to do, or another program would be broken by it",
    "see-the-rehearsal-faults-and-what": "See the rehearsal's faults and what it says of other programs.",
    "the-source-has-expired-and-does": "The source {name} has expired and does not count; see: fundamen sources list",
}
