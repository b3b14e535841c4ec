"""Know the meanings of messages and codes: our own data files, and an organisation's beside them."""
