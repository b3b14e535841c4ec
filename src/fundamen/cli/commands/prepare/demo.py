"""``fundamen demo``."""

import contextlib
import os
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

import click

from fundamen.cli.exits import Exit
from fundamen.cli.helping import Subcommand
from fundamen.cli.output import Output, finish
from fundamen.demo.story import Scene, caption_text, closing_lines, opening_lines, play


@click.command("demo", cls=Subcommand)
@click.option("--keep", metavar="FOLDER", help="Build the demo in the new FOLDER, and keep it.")
@click.option("--all", "whole", is_flag=True, help="Also show the packager, the case, and a Windows disk.")
def command(keep: str | None, *, whole: bool) -> None:
    """Play a case on made-up data with the real commands: trace, trust, rehearse, restore, prove, undo.

    Nothing outside the demo's own folder is changed.

    \b
    fundamen demo
    fundamen demo --all
    fundamen demo --keep marram && cd marram
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    is_as_expected = True
    with Output(as_json=False, quiet=False, verbose=False) as output, _folder(keep) as folder:
        click.echo(opening_lines(whole=whole))
        for index, played in enumerate(play(folder, sys.stdout.isatty(), _tell, whole=whole)):
            if played.scene.is_shown:
                output.show(played.output)
            if not played.is_as_expected:
                is_as_expected = False
                output.note(f"(Step {index + 1} ended with {played.status}; the story expects {played.scene.status}.)")
        click.echo("\n" + click.style("The case is closed.", bold=True))
        if keep:
            click.echo("To continue with it:\n" + "\n".join(f"  {line}" for line in closing_lines(folder)))
    finish(Exit.NOTHING_AT_FAULT if is_as_expected else Exit.FAULT_FOUND)


def _tell(scene: Scene) -> None:
    caption, _, line = caption_text(scene).partition("\n\n")
    click.echo("\n" + click.style(caption, fg="cyan") + "\n\n" + click.style(line, bold=True))


@contextlib.contextmanager
def _folder(keep: str | None) -> Iterator[Path]:
    """The folder that was asked for, or one that goes when the demo ends."""
    if keep:
        folder = Path(os.path.abspath(keep))
        folder.mkdir(parents=True, exist_ok=True)
        yield folder
        return
    with tempfile.TemporaryDirectory(prefix="fundamen-demo-") as temporary:
        yield Path(temporary)
