"""Read property lists, as macOS keeps its settings and declarations in.

Source: plist(5), and the DTD that such files name.
"""

import plistlib
from xml.parsers.expat import ExpatError

from fundamen.formats.cursor import damage_error
from fundamen.messages import say

_MOST_BYTES = 4 << 20


def read_property_list(data: bytes, what: str) -> dict[str, object]:
    """The values of a property list by their keys.

    Args:
        data: the list, as XML or in the binary form.
        what: which list it is, for messages.

    Raises:
        DamagedFileError: it is none, declares entities, is too large, or holds no keys.
    """
    if len(data) > _MOST_BYTES:
        raise damage_error(f"The {what}", say("formats.it-has-bytes", count=len(data)))
    try:
        values = plistlib.loads(data)
    except (plistlib.InvalidFileException, ExpatError, ValueError, LookupError, OverflowError, RecursionError) as error:
        raise damage_error(f"The {what}", f"{type(error).__name__}: {error}") from error
    except (TypeError, AttributeError) as error:  # plistlib's answer to tags in impossible places
        raise damage_error(f"The {what}", say("formats.its-tags-are-in-places-where", error=error)) from error
    if not isinstance(values, dict):
        raise damage_error(f"The {what}", say("formats.it-holds-no-keys"))
    return values
