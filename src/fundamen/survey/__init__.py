"""A whole machine: what everything on it depends on, in one call, with what is wrong grouped by its cause.

A *cause* is one component and what is the matter with it; it counts once however many programs it stops. A library that
nothing was found to load is looked at by itself: what it lacks may be given to it by the program that loads it, and is
a fault only where no file of that name and architecture lies in what was surveyed. Special files are never opened.
"""
