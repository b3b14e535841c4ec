"""Show the content of a capture before it is written."""

from fundamen.formats.capture_file import CaptureManifest
from fundamen.report.page import Page, count_of, size_in_words

_MOST_NAMED = 8


def capture_text(manifest: CaptureManifest, *, verbose: bool, drawn: bool) -> str:
    """The page."""
    page = Page(drawn=drawn)
    size = size_in_words(manifest.bytes)
    page.answer(f"The capture of {manifest.machine} holds {size} of {count_of(manifest.files, 'file')}.")
    page.heading("It is made for")
    for what in manifest.of:
        page.line(what)
    page.heading("Besides these bytes it holds")
    page.line(
        "names, sizes and rights of the files and folders that were looked at, where links lead, digests, and the "
        "values of the registry and the variables of the environment that were asked for."
    )
    if manifest.left_out:
        page.heading("Left out by rule")
        for what in manifest.left_out if verbose else manifest.left_out[:_MOST_NAMED]:
            page.line(what)
        page.more(0 if verbose else len(manifest.left_out) - _MOST_NAMED)
    return page.text()
