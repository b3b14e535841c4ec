"""ELF files and what the GNU loader, the linker, the kernel and systemd read beside them."""
