"""``fundamen handoff``."""

import os

import click

from fundamen.cases.handoff import To, compose, redact
from fundamen.cases.secrets import BLOTS, without_identities
from fundamen.cases.store import CaseStore
from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.helping import Subcommand
from fundamen.cli.output import Output, finish
from fundamen.messages import say
from fundamen.model.errors import UsageError
from fundamen.model.paths import HostPath
from fundamen.model.secrets import without_secrets
from fundamen.report.page import count_of


@click.command("handoff", cls=Subcommand)
@click.argument("number", type=options.NUMBER, required=False)
@click.option("--to", type=click.Choice([each.value for each in To]), default=To.ADMINISTRATOR.value, show_default=True)
@click.option("--form", type=click.Choice(["text", "markdown", "html"]), default="text", show_default=True)
@click.option("--redact", "is_redacted", is_flag=True, help="Leave out names, addresses, keys, this host and its user.")
@options.output_options
def command(number: int | None, to: str, form: str, *, is_redacted: bool, output: Output) -> None:
    """Write a request to a person who has the rights, from the open case or case NUMBER.

    It says what is needed and why, with the evidence, how to check that it is done, and what was tried. What is still
    unknown is listed first.

    \b
    fundamen handoff --to provider --redact >request.txt
    fundamen handoff 3 --to technician --form markdown
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    with output:
        store = CaseStore(HostPath(os.path.join(options.home(), "cases")))
        case = store.case(number) if number is not None else store.current()
        if case is None:
            raise UsageError(
                what=say("cli.there-is-nothing-to-hand-on"),
                why=say("cli.no-case-is-open-and-no"),
                do=say("cli.open-a-case-trace-the-program"),
            )
        names = _own_names()
        whole = compose(case, To(to), options.now())
        request = redact(whole, lambda text: without_identities(text, names) if is_redacted else without_secrets(text))
        if output.as_json:
            from fundamen.report.contracts.casing import handoff_record  # noqa: PLC0415 - only where it is asked for

            output.show_record(handoff_record(request))
        else:
            from fundamen.report.repairing import handoff_text  # noqa: PLC0415

            output.show(
                {"text": handoff_text.plain, "markdown": handoff_text.markdown, "html": handoff_text.html}[form](
                    request
                )
            )
        count = sum(str(request).count(blot) for blot in BLOTS)
        if count:
            output.note(f"Blotted out: {count_of(count, 'place')}. Read it before you send it.")
        for each in request.facts_missing:
            output.note(f"The reader will have to ask: {each}")
    finish(Exit.FAULT_FOUND if request.facts_missing else Exit.NOTHING_AT_FAULT)


def _own_names() -> list[str]:
    """The names of this host and its user."""
    import getpass  # noqa: PLC0415 - only for blotting
    import platform  # noqa: PLC0415

    try:
        user = getpass.getuser()
    except (KeyError, OSError):
        user = ""
    return [platform.node(), platform.node().partition(".")[0], user]
