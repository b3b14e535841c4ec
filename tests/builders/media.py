"""Build installation media: disc images, tar and ZIP archives, cabinets; outside tools prove the readers of each."""

import gzip
import io
import lzma
import struct
import tarfile
import zipfile
import zlib
from collections.abc import Callable, Mapping

import pycdlib

FILES: Mapping[str, bytes] = {"readme.txt": b"Spring tides", "x64/salt.dll": b"tide" * 100}


def a_disc_image(files: Mapping[str, bytes] = FILES) -> bytes:
    """An image with Rock Ridge names."""
    image = pycdlib.PyCdlib()
    image.new(rock_ridge="1.09")
    for number, folder in enumerate(sorted({name.rpartition("/")[0] for name in files} - {""})):
        image.add_directory(f"/D{number}", rr_name=folder)
    folders = sorted({name.rpartition("/")[0] for name in files} - {""})
    for number, (name, data) in enumerate(files.items()):
        folder, _, own = name.rpartition("/")
        place = f"/D{folders.index(folder)}" if folder else ""
        image.add_fp(io.BytesIO(data), len(data), f"{place}/F{number}.;1", rr_name=own)
    out = io.BytesIO()
    image.write_fp(out)
    image.close()
    return out.getvalue()


def a_tar(files: Mapping[str, bytes] = FILES, pack: Callable[[bytes], bytes] = gzip.compress) -> bytes:
    out = io.BytesIO()
    with tarfile.open(fileobj=out, mode="w") as archive:
        for name, data in files.items():
            info = tarfile.TarInfo(name)
            info.size = len(data)
            archive.addfile(info, io.BytesIO(data))
    return pack(out.getvalue())


def a_deb(name: str, version: str, files: Mapping[str, bytes] = FILES) -> bytes:
    """A package by deb(5), for amd64."""
    control = f"Package: {name}\nVersion: {version}\nArchitecture: amd64\n".encode()
    parts = {
        "debian-binary": b"2.0\n",
        "control.tar.xz": a_tar({"./control": control}, lzma.compress),
        "data.tar.xz": a_tar({f"./{path}": data for path, data in files.items()}, lzma.compress),
    }
    whole = b"!<arch>\n"
    for member, data in parts.items():
        head = f"{member:16}{0:<12}{0:<6}{0:<6}{100644:<8}{len(data):<10}`\n".encode()
        whole += head + data + b"\n" * (len(data) % 2)
    return whole


def a_zip(files: Mapping[str, bytes] = FILES) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in files.items():
            archive.writestr(name, data)
    return out.getvalue()


def a_cabinet_set(name: str, data: bytes, count: int) -> dict[str, bytes]:
    """A small file whose one block goes over several cabinets, set1.cab and so on."""
    packer = zlib.compressobj(9, zlib.DEFLATED, -15)
    packed = b"CK" + packer.compress(data) + packer.flush()
    size = -(-len(packed) // count)
    made = {}
    for number in range(count):
        is_first, is_last = number == 0, number == count - 1
        folder = 0xFFFE if is_first else 0xFFFD if is_last else 0xFFFF
        neighbours = ("" if is_first else f"set{number}.cab\0\0") + ("" if is_last else f"set{number + 2}.cab\0\0")
        piece = packed[number * size :][:size]
        file = struct.pack("<IIHHHH", len(data), 0, folder, 0, 0, 0x20) + name.encode() + b"\0"
        files_at = 36 + len(neighbours) + 8
        block = struct.pack("<IHH", 0, len(piece), len(data) if is_last else 0) + piece
        body = neighbours.encode() + struct.pack("<IHH", files_at + len(file), 1, 1) + file + block
        numbers = (36 + len(body), 0, files_at, 0, 3, 1, 1, 1, (not is_first) | (not is_last) << 1, 7, number)
        made[f"set{number + 1}.cab"] = struct.pack("<4sIIIIIBBHHHHH", b"MSCF", 0, *numbers) + body
    return made


def a_cabinet(files: Mapping[str, bytes] = FILES) -> bytes:
    """One folder, packed with MSZIP; blocks refer back to the ones before them."""
    whole = b"".join(files.values())
    blocks, history = [], b""
    for at in range(0, len(whole), 32768):
        piece = whole[at : at + 32768]
        packer = zlib.compressobj(9, zlib.DEFLATED, -15, zdict=history) if history else zlib.compressobj(9, 8, -15)
        packed = b"CK" + packer.compress(piece) + packer.flush()
        blocks.append(struct.pack("<IHH", 0, len(packed), len(piece)) + packed)
        history = piece[-32768:]
    entries, begin = b"", 0
    for name, data in files.items():
        entries += struct.pack("<IIHHHH", len(data), begin, 0, 0, 0, 0x20) + name.replace("/", "\\").encode() + b"\0"
        begin += len(data)
    files_at = 36 + 8
    blocks_at = files_at + len(entries)
    body = struct.pack("<IHH", blocks_at, len(blocks), 1) + entries + b"".join(blocks)
    head = struct.pack("<4sIIIIIBBHHHHH", b"MSCF", 0, 36 + len(body), 0, files_at, 0, 3, 1, 1, len(files), 0, 7, 0)
    return head + body
