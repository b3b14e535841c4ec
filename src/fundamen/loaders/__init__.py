"""How each platform's loader searches: one module a loader."""
