"""Read the catalogue of a toolchain that a person named."""

from fundamen.machine.file_bytes import open_ordinary
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError
from fundamen.toolchains.catalogue import MOST_BYTES, Toolchain, read_toolchain


def read_catalogue(name: str) -> Toolchain:
    """Read it. Raises: UnreadableError: it cannot be read, or is none."""
    try:
        with open_ordinary(name) as file:
            data = file.read(MOST_BYTES + 1)
    except OSError as error:
        raise UnreadableError(
            what=say("cli.the-catalogue-cannot-be-read", name=printable(name)),
            why=error.strerror or str(error),
            do=say("cli.name-the-publisher-catalogue-of-the"),
        ) from error
    return read_toolchain(data, name)
