"""What do messages and codes mean? Our own knowledge, as data files, and an organisation's beside it."""
