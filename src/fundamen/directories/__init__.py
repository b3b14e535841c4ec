"""Directories (LDAP): ask for an entry, change one. Without a login nothing but searches is sent.

Guarantees: a password goes only over TLS whose certificate holds, or to this very host; a change is one operation,
which the directory makes whole or not at all (RFC 4511, "Modify Operation").
"""
