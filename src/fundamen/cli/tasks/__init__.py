"""Work that commands share: each part takes parsed options, calls the core, and asks or shows what is needed."""
