"""Check what no file declares: requirement sheets, one module for each kind of requirement.

A *requirement* is one thing that must be so for a program, an installer or a toolchain to work, of a *kind* that knows
how to find out whether it is. A *sheet* lists requirements. An *answer* says how one stands: met, unmet, or unknown,
with what was found. A *forerunner* is a requirement that must be met before another can be checked at all.

Guarantees: checking changes nothing; nothing that a sheet names is run unless it was consented to; all requirements are
answered in one pass; each that waits for something is bounded in time.
"""
