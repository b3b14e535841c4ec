"""The step that sets a file or folder aside: it gets another name, and nothing of it is touched."""

from fundamen.machine.places import Place
from fundamen.placing.calls import move
from fundamen.restore.folders import around, make_folders, times_of
from fundamen.restore.records import LOCATIONS, MoveRecord, Site
from fundamen.restore.steps import Move


def keep(step: Move, site: Site, target: Place, aside: Place) -> MoveRecord:
    """Write down what is to be moved; nothing is changed.

    Raises:
        OSError: nothing stands there, or something where it is to go, or that is on another file system.
    """
    status = target.status()
    if aside.is_there:
        raise FileExistsError(17, "something stands there already", aside.host)
    beside = around(site, aside.folder)
    own = times_of(site, target.folder)
    # What is mounted there is of another device than the folder around it.
    if {own.device, beside.nearest.device} != {status.st_dev}:
        raise OSError(18, "it would have to go to another file system", target.host)
    return MoveRecord(
        path=step.path,
        target=site.location(target),
        aside=site.location(aside),
        new_folders=beside.missing,
        folders=(own,) if own.path == beside.nearest.path else (own, beside.nearest),
        form=LOCATIONS,
    )


def make_move(record: MoveRecord, site: Site) -> None:
    """Move it; the folders are not flushed yet. Raises: OSError."""
    make_folders(site, record.new_folders)
    aside = site.place(record.aside)
    if aside.is_there:
        raise FileExistsError(17, "something stands there by now", aside.host)
    move(site.place(record.target), aside)
    aside.folder.flush()


def is_moved(record: MoveRecord, site: Site) -> bool:
    """Whether it lies aside. Raises: OSError."""
    return site.place(record.aside).is_there


def obstacle(record: MoveRecord, site: Site) -> str:
    """Why it can neither be moved nor be moved back: something else stands in its place, or it is gone."""
    is_hindered = site.place(record.aside).is_there == site.place(record.target).is_there
    return "what was set aside cannot go back to its place" if is_hindered else ""


def take_back_move(record: MoveRecord, site: Site) -> None:
    """Move it back. Raises: OSError."""
    aside, target = site.place(record.aside), site.place(record.target)
    if aside.is_there:
        move(aside, target)
        target.folder.flush()
        aside.folder.flush()
