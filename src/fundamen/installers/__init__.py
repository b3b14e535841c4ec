"""Look into install packages: what they bundle, and what they will conclude on a machine before they are run.

A *conclusion* is what an installer decides by what it finds: whether it may run at all, which earlier product it takes
for installed, which parts it will install, which prerequisite it believes to be there. A *search* is one look-up by
which it fills a property; what it finds may be a leftover, which is registered and not there.

Guarantees: nothing of a package is run; the package and the machine stay as they are; what cannot be known without
running it, such as the effect of its own code, is reported as unknown.
"""
