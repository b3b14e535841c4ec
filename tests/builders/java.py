"""Build class files and archives of them."""

import io
import struct
import zipfile


def a_class(java: int) -> bytes:
    """The beginning of a class file that is compiled for a version of Java."""
    return struct.pack(">IHHH", 0xCAFEBABE, 0, 44 + java, 2) + bytes(20)


def an_archive(java: int = 17, class_path: str = "", **files: bytes) -> bytes:
    """An archive with one class, a manifest, and further files (``_`` stands for a dot, ``__`` for a slash)."""
    written = io.BytesIO()
    with zipfile.ZipFile(written, "w") as archive:
        manifest = f"Manifest-Version: 1.0\r\nMain-Class: Tide\r\nClass-Path: {class_path}\r\n"
        archive.writestr("META-INF/MANIFEST.MF", manifest + "\r\nName: x\r\nMain-Class: not.this.One\r\n")
        archive.writestr("ardvane/Tide.class", a_class(java))
        for name, data in files.items():
            archive.writestr(name.replace("__", "/").replace("_", "."), data)
    return written.getvalue()
