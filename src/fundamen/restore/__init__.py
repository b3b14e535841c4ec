"""Plan, rehearsal, journal, steps, proof; and the way back."""
