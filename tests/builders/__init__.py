"""Small real files for tests, built byte by byte; test_builders proves them against an outside tool."""
