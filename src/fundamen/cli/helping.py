"""How help is laid out: commands by stage, a command's own options in full and the common ones by name."""

import difflib
from typing import Any

import click
from click.core import ParameterSource

from fundamen.messages import say

SETTINGS = {"help_option_names": ["-h", "--help"], "max_content_width": 100}
_ALIKE = 0.6  # how alike a name must be to be suggested: between 0 and 1
_EXAMPLE = "fundamen "


class CommonOption(click.Option):
    """An option that many commands share: ``fundamen --help`` explains it once for all of them."""


class SharedOption(click.Option):
    """An option of a set that some commands share: their help lists the set apart, under its name."""

    def __init__(self, *args: Any, section: str, **settings: Any) -> None:  # noqa: ANN401 - click's own
        super().__init__(*args, **settings)
        self.section = section


class OnlyWith(click.Option):
    """An option that means nothing without another one, and is refused then."""

    def __init__(self, *args: Any, only_with: tuple[str, ...], **settings: Any) -> None:  # noqa: ANN401 - click's own
        super().__init__(*args, **settings)
        self.only_with = only_with


class Subcommand(click.Command):
    """A command whose help lists its own options, and names the common ones."""

    def __init__(self, *args: Any, **settings: Any) -> None:  # noqa: ANN401 - click's own
        settings["context_settings"] = {**SETTINGS, **(settings.get("context_settings") or {})}
        super().__init__(*args, **settings)

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Read the words. Raises: click.UsageError: an option has no meaning without another one."""
        rest = super().parse_args(ctx, args)
        given = {p for p in self.params if ctx.get_parameter_source(p.name or "") is ParameterSource.COMMANDLINE}
        names = {name for parameter in given for name in parameter.opts}
        for option in given:
            if isinstance(option, OnlyWith) and not names & set(option.only_with):
                raise click.UsageError(
                    say("cli.is-only-for", opts=option.opts[-1], only_with=" or ".join(option.only_with)), ctx
                )
        return rest

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """List the options."""
        sections: dict[str, list[tuple[str, str]]] = {"Options": []}
        common: list[str] = []
        for parameter in self.get_params(ctx):
            record = parameter.get_help_record(ctx)
            if record is None or not isinstance(parameter, click.Option) or "--help" in parameter.opts:
                continue
            if isinstance(parameter, CommonOption):
                common.append(max(parameter.opts, key=len))
            else:
                section = parameter.section if isinstance(parameter, SharedOption) else "Options"
                sections.setdefault(section, []).append(record)
        for title, records in sections.items():
            if records:
                with formatter.section(title):
                    formatter.write_dl(records)
        if common:
            with formatter.section("Common options, explained by 'fundamen --help'"):
                formatter.write_text(" ".join(common))


class CommandGroup(click.Group):
    """A group of commands, each with its short help; a name that is not known is reported with those like it."""

    command_class = Subcommand

    def __init__(self, *args: Any, **settings: Any) -> None:  # noqa: ANN401 - click's own
        settings["context_settings"] = {**SETTINGS, **(settings.get("context_settings") or {})}
        super().__init__(*args, **settings)

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """List the commands; a group has no options of its own."""
        self.format_commands(ctx, formatter)

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Find a command. Raises: click.UsageError: there is none of the name."""
        name = args[0]
        if not name.startswith("-") and self.get_command(ctx, name) is None:
            raise click.UsageError(
                say("cli.there-is-no-command", name=name, alike=_alike(name, self.list_commands(ctx))), ctx
            )
        return super().resolve_command(ctx, args)


def in_our_words(error: click.UsageError) -> tuple[str, str, str]:
    """An error of usage in the three parts of our messages: what, why, what to do."""
    command = error.ctx.command_path if error.ctx is not None else "fundamen"
    examples = _examples(error.ctx.command) if error.ctx is not None else []
    do = f"See: {command} --help" + (f"   For example: {examples[0]}" if examples else "")
    return f"'{command}' was not understood", _why(error), do


def _why(error: click.UsageError) -> str:
    if isinstance(error, click.NoSuchOption):
        names = [name for each in error.ctx.command.params for name in each.opts] if error.ctx is not None else []
        return f"there is no option {error.option_name}{_alike(error.option_name, names)}"
    if isinstance(error, click.MissingParameter) and error.param is not None and error.ctx is not None:
        return f"{error.param.make_metavar(error.ctx).rstrip('.')} is missing"
    message = error.format_message().rstrip(".")
    return message[:1].lower() + message[1:]


def _alike(name: str, known: list[str]) -> str:
    found = difflib.get_close_matches(name, known, n=3, cutoff=_ALIKE)
    return f"; did you mean {' or '.join(found)}?" if found else ""


def _examples(command: click.Command) -> list[str]:
    return [line.strip() for line in (command.help or "").split("\n") if line.strip().startswith(_EXAMPLE)]
