"""Containers of files: install packages, cabinets, archives and disc images, unpacked within bounds."""
