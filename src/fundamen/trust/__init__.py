"""Digests, publishers' signatures and certificate chains."""
