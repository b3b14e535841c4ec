"""The kinds of requirements, one module each; ``prerequisites.all_kinds`` lists them."""
