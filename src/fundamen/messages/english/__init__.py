"""Every text that the core says, in English: one module for each package that says them."""
