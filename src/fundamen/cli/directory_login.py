"""The password of a directory's login: from a file, or typed; it is written down nowhere."""

import functools
from typing import Any

import click

from fundamen.cli import options
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import shown


def password_option(command: options.Command) -> options.Command:
    """Let a command that may change a directory get the password: from a file, or by asking."""

    @click.option("--login-password", metavar="FILE", help="Holds the password for a directory; else you type it.")
    @functools.wraps(command)
    def wrapped(login_password: str | None, **others: Any) -> None:  # noqa: ANN401
        from fundamen.changes.asked_password import PASSWORD  # noqa: PLC0415 - once the command is known

        PASSWORD.set(functools.lru_cache(functools.partial(_password, login_password)))
        command(**others)

    return wrapped


def _password(file: str | None, directory: str, name: str) -> str:
    if file is not None:
        return options.secret(file)
    try:
        typed: str = click.prompt(f"The password of {shown(name)} for {shown(directory)}", hide_input=True, err=True)
    except click.Abort as error:
        raise UnreadableError(
            what=f"The directory {shown(directory)} is not changed",
            why=f"nobody typed the password of {shown(name)}",
            do="Name a file that holds it: --login-password FILE",
        ) from error
    return typed
