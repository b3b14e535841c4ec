"""Managed code and Java: what their files declare, and how their runtimes are configured."""
