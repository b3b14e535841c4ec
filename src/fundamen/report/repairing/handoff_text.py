"""A request to hand on: as plain text, as Markdown, as HTML that needs nothing else."""

import html as html_of
from collections.abc import Iterator
from datetime import datetime

from fundamen.cases.handoff import Handoff, To
from fundamen.model.display import printable
from fundamen.report.page import Page

_OPENINGS = {
    To.PROVIDER: "Please put the following right on the host that you run for us.",
    To.ADMINISTRATOR: "Please put the following right; it needs rights that we do not have.",
    To.PUBLISHER: "Your program does not start on a machine of ours; please tell us where the following comes from.",
    To.TECHNICIAN: "This is the present state of the case.",
}
_Part = tuple[str, list[tuple[str, str]]]  # (heading, (text, command beneath it or ""))


def plain(request: Handoff) -> str:
    """The request as plain text, to be pasted into a mail or a form."""
    page = Page(drawn=False)
    page.answer(_title(request))
    page.line(_opening_line(request), indent=0)
    for heading, items in _parts(request):
        page.heading(heading)
        for text, command in items:
            if text:
                page.line(text)
            if command:
                page.raw("  " + command)
    return page.text()


def markdown(request: Handoff) -> str:
    """The request as Markdown."""
    lines = [f"# {_escape_markdown(_title(request))}", "", _escape_markdown(_opening_line(request))]
    for heading, items in _parts(request):
        lines += ["", f"## {heading}", ""]
        for text, command in items:
            if text:
                lines.append(f"- {_escape_markdown(printable(text))}")
            if command:
                lines += ["", "  ```", f"  {printable(command)}", "  ```", ""]
    return "\n".join(lines) + "\n"


def html(request: Handoff) -> str:
    """The request as one page of HTML."""
    title = html_of.escape(printable(_title(request)))
    body = [f"<h1>{title}</h1>", f"<p>{html_of.escape(printable(_opening_line(request)))}</p>"]
    for heading, items in _parts(request):
        body.append(f"<h2>{html_of.escape(heading)}</h2>\n<ul>")
        for text, command in items:
            code = f"<pre><code>{html_of.escape(printable(command))}</code></pre>" if command else ""
            body.append(f"<li>{html_of.escape(printable(text))}{code}</li>")
        body.append("</ul>")
    return (
        f'<!doctype html>\n<html lang="en">\n<head>\n<meta charset="utf-8">\n<title>{title}</title>\n'
        f"<style>{_STYLE}</style>\n</head>\n<body>\n<main>\n" + "\n".join(body) + "\n</main>\n</body>\n</html>\n"
    )


_STYLE = (
    "body{margin:0;background:#f7f6f2;color:#20262b;font:16px/1.5 Georgia,serif}"
    "main{max-width:46rem;margin:0 auto;padding:2rem 1.5rem}"
    "h1{font-size:1.5rem;line-height:1.25;border-bottom:3px solid #7a3b26;padding-bottom:.5rem}"
    "h2{font-size:1.1rem;margin:1.6rem 0 .4rem}ul{margin:0;padding-left:1.2rem}li{margin:.3rem 0}"
    "pre{background:#e9e6dd;padding:.5rem .7rem;margin:.3rem 0;white-space:pre-wrap;overflow-wrap:anywhere}"
    "code{font:14px/1.4 ui-monospace,monospace}@media print{body{background:#fff}main{padding:0}}"
)


def _title(request: Handoff) -> str:
    what = "Handed on" if request.to is To.TECHNICIAN else "Request"
    return f"{what}: {request.case} (case {request.number})"


def _opening_line(request: Handoff) -> str:
    what = f"{request.program} on {request.machine}" if request.program else request.machine
    return f"{_OPENINGS[request.to]} It is about {what}, {_when(request.made_at)} UTC."


def _parts(request: Handoff) -> Iterator[_Part]:
    commands = [each.command for each in request.wanted]
    yield "Needed", [
        (f"{each.what.rstrip('.')}. {each.why}", each.command if each.command not in commands[number + 1 :] else "")
        for number, each in enumerate(request.wanted)
    ] or [("Nothing any more: the latest trace finds all that the program needs." if request.is_sound
           else "It is not known yet what is needed.", "")]  # fmt: skip
    if request.evidence:
        yield "Evidence", [(f"{_when(each.at)}, {each.source}: {each.text}", "") for each in request.evidence]
    checks = [(each, "") if each.endswith(".") else ("", each) for each in request.check]
    yield "How to check that it is done", checks
    if request.tried:
        yield "Tried so far", [(f"{_when(each.at)}: {each.what} It {each.outcome}.", "") for each in request.tried]


def _escape_markdown(text: str) -> str:
    return "".join(f"\\{character}" if character in "\\`*_[]<>#|" else character for character in text)


def _when(moment: datetime) -> str:
    return moment.strftime("%Y-%m-%d %H:%M")
