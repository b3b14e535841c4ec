"""Toolchains: a folder of compilers, libraries and licences against the catalogue that describes it.

A toolchain is of one version as a whole. A file is sound where its bytes are those that the catalogue lists; bytes that
another version's catalogue lists, or another host's build of the same part, are named as such: a mixture is no damage,
and is repaired by replacing all that is of the other version, as one.
"""
