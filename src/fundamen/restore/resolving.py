"""From a plan to the work on one machine: what each step would write there, looked up and computed now.

Nothing on the machine is changed. Steps that change the same file follow on one another, and become one.
"""

from fundamen.changes.base import Work
from fundamen.changes.form import Means, PlanResolution
from fundamen.machine.machine import Machine
from fundamen.model.paths import MachinePath
from fundamen.restore.plan_file import PlanFile


def resolve_plan(machine: Machine, plan: PlanFile, means: Means) -> Work:
    """Resolve a plan on a machine as it is now.

    Raises:
        RestorationError: the machine is not as a step expects it.
        UsageError: a step cannot be done here.
        UntrustedError: no trusted source has a file, or a root is not the one that its fingerprint tells.
        UnreadableError: a file cannot be read.
    """
    resolving = PlanResolution(machine, MachinePath(plan.program), means)
    for step in plan.steps:
        step.resolve(resolving)
    titles = tuple(dict.fromkeys(step.title for step in plan.steps))
    steps, copies = tuple(resolving.steps.values()), tuple(resolving.copies)
    further = tuple(map(MachinePath, plan.further))
    return Work(resolving.program, titles, steps, resolving.contents, copies, further, plan.because)
