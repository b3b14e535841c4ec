"""The password of a directory's login: from a file, or typed; it is written down nowhere."""

import functools
from typing import Any

import click

from fundamen.cli import options
from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError


def password_option(command: options.Command) -> options.Command:
    """Give a command ``password``, which it may change a directory with: from a file, or by asking once."""

    @click.option("--login-password", metavar="FILE", help="A file with the password of a directory.")
    @functools.wraps(command)
    def wrapper(login_password: str | None, **others: Any) -> None:  # noqa: ANN401
        command(password=functools.cache(functools.partial(_password, login_password)), **others)

    return wrapper


def _password(file: str | None, directory: str, name: str) -> str:
    if file is not None:
        return options.secret(file)
    try:
        typed: str = click.prompt(
            f"The password of {printable(name)} for {printable(directory)}", hide_input=True, err=True
        )
    except click.Abort as error:
        raise UnreadableError(
            what=say("cli.the-directory-is-not-changed", directory=printable(directory)),
            why=say("cli.the-password-of-was-not-typed", name=printable(name)),
            do=say("cli.name-a-file-that-holds-it"),
        ) from error
    return typed
