"""The folder of Fundamen's own state. Only its user may write to it, for its contents decide what is restored."""

import contextlib
import os
import shlex
import stat

from fundamen.messages import say
from fundamen.model.display import printable
from fundamen.model.errors import UsageError

_OTHERS_WRITE = stat.S_IWGRP | stat.S_IWOTH


def take_over(old: str, new: str) -> None:
    """Rename a folder of ours, if it exists."""
    with contextlib.suppress(OSError):
        os.rename(old, new)


def require_own(folder: str, uid: int) -> None:
    """Make a folder of our own state where there is none, and see that no one else can write to it.

    Args:
        folder: the folder.
        uid: whose it is to be.

    Raises:
        UsageError: it belongs to someone else, or others may write to it.
    """
    with contextlib.suppress(OSError):  # a later write reports it
        os.makedirs(os.path.dirname(folder), exist_ok=True)
        os.mkdir(folder, 0o700)
    try:
        status = os.stat(folder)
    except OSError:
        return
    name = shlex.quote(folder)
    if status.st_uid != uid:
        why, do = say("placing.it-belongs-to-another-account"), say("placing.chown-r", uid=uid, name=name)
    elif status.st_mode & _OTHERS_WRITE:
        why, do = say("placing.other-accounts-may-write-to-it"), say("placing.chmod-go-w", name=name)
    else:
        return
    raise UsageError(
        what=say("placing.fundamen-own-folder-is-not-used", folder=printable(folder)),
        why=say("placing.and-could-have-fundamen-put-what", why=why),
        do=say("placing.check-its-contents-then-run-or", do=do),
    )
