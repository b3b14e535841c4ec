"""Certificates, signatures and the forms in which they are passed on."""
