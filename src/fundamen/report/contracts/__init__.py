"""The JSON contracts: one record a command, kept stable for scripts, published as JSON Schema in docs/schemas/."""
