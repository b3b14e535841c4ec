"""The Python interface: a session, and the parts of it that the commands use as well."""
