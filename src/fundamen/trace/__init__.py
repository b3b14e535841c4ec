"""Program to graph of needs, to verdicts, to faults in order of cause."""
