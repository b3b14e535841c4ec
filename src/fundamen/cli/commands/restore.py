"""``fundamen restore``."""

from collections.abc import Callable
from typing import TYPE_CHECKING

import click

from fundamen.cli import options
from fundamen.cli.directory_login import password_option
from fundamen.cli.faults import SETTLE_SECONDS, Launching, restore_programs
from fundamen.cli.faults import Asked as AskedOfFaults
from fundamen.cli.media import Named, media_options
from fundamen.cli.other_restorations import Asked, restored_otherwise
from fundamen.cli.output import Output, finish
from fundamen.cli.pinning import read_pins
from fundamen.cli.restoring import Consent, Desk
from fundamen.execution.home import journal_of
from fundamen.execution.locking import require_ready
from fundamen.machine.machine import Machine
from fundamen.machine.programs import find_program
from fundamen.model.errors import UsageError

if TYPE_CHECKING:
    from fundamen.changes.base import Password


@click.command("restore")
@click.argument("program", required=False)
@click.argument("arguments", nargs=-1)
@click.option("--plan", "plan_file", metavar="FILE", help="Carry out a plan that was saved, instead of making one.")
@click.option("--save-plan", metavar="FILE", help="Write the plan to a file, to be carried out elsewhere or later.")
@click.option(
    "--rehearse", "only_rehearse", is_flag=True, help="Show what would be done and come of it; change nothing."
)
@click.option("--yes", is_flag=True, help="Carry it out without asking.")
@click.option("--launch", is_flag=True, help="Run the program afterwards, with ARGUMENTS, and show how it ended.")
@click.option("--launch-seconds", type=click.FloatRange(0.1), default=20.0, show_default=True, help="How long at most.")
@click.option(
    "--settle",
    "settle_seconds",
    type=click.FloatRange(0),
    default=SETTLE_SECONDS,
    show_default=True,
    envvar="FUNDAMEN_SETTLE",
    show_envvar=True,
    metavar="SECONDS",
    help="Look after so long whether what was placed still stands.",
)
@click.option("--also", multiple=True, metavar="PROGRAM", help="Another program, which must not come to lack anything.")
@click.option("--with", "with_programs", multiple=True, metavar="PROGRAM", help="Put this program right too.")
@click.option("--pin", multiple=True, metavar="PACKAGE==VERSION", help="Bring this version, even an older one.")
@click.option("--because", default="", metavar="TEXT", help="Why this version; written into the journal.")
@click.option("--waiting", default="", metavar="PROCESS", help="An installer that waits: say whether it may go on.")
@click.option("--no-archive", is_flag=True, help="Do not ask the operating system's own archive.")
@click.option("--install", multiple=True, metavar="PACKAGE", help="Have the system's package manager install it too.")
@click.option("--reference", metavar="NAME", help="Bring back from a recorded reference what differs in the folder.")
@click.option("--lock-entry", metavar="NAME", help="Refresh one aged entry of a lock file; the old file is kept.")
@click.option("--artefacts", multiple=True, metavar="FOLDER", help="Where the files lie that a lock file pins.")
@click.option("--import-root", is_flag=True, help="Import the root that PROGRAM's chain of certificates ends in.")
@click.option("--fingerprint", metavar="SHA256", help="The root's, as its owner read it out; otherwise you type it.")
@click.option("--issuer", multiple=True, metavar="FILE", help="Certificates to build the chain with, the root's too.")
@media_options
@password_option
@options.machine_options
@options.output_options
def command(
    program: str | None,
    arguments: tuple[str, ...],
    *,
    plan_file: str | None,
    save_plan: str | None,
    only_rehearse: bool,
    yes: bool,
    launch: bool,
    launch_seconds: float,
    settle_seconds: float,
    also: tuple[str, ...],
    with_programs: tuple[str, ...],
    pin: tuple[str, ...],
    because: str,
    waiting: str,
    no_archive: bool,
    install: tuple[str, ...],
    media: Named,
    reference: str | None,
    lock_entry: str | None,
    artefacts: tuple[str, ...],
    import_root: bool,
    fingerprint: str | None,
    issuer: tuple[str, ...],
    password: "Password",
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Put right what PROGRAM stands on, as whole packages from trusted sources.

    On Debian, files of installed packages come from the archive that the machine was installed from, through apt and
    with its checks, in the version that is installed. What a trace says a package would bring is installed with
    --install, together with all that the package depends on; nothing else is upgraded or removed for it.

    The plan is rehearsed first: laid over the machine, it is traced as it would be. Then you are asked. What is
    replaced is kept, every step is written to a journal before it is made, and all of it can be undone. Programs that
    were put right before, and those that --also names, must not come to lack anything by it: then it is not offered.

    Packages are never mixed with other versions of themselves, nor exchanged for older ones, unless you ask for a
    version with --pin and say why; then the whole package is brought in that version, and the reason is kept. What
    programs share is brought in both widths where the machine runs programs of both.

    Afterwards you are told what must be started anew to see the change, nothing else; and of an installer that
    --waiting names (by its process) whether it may go on, must be started over, or must not be touched.

    Media that you name with --media (a disc image, a folder, an install package, an archive) are a source as well: what
    their publisher has signed is believed as far as its chain is trusted, anything else by the SHA-256 that you give.

    With --reference PROGRAM is a folder: what has vanished from it or differs since the reference was recorded comes
    back, and nothing else is touched.

    With --save-plan the plan is written to a file that can be read, sent, and carried out with --plan, here or on a
    machine like it; each step says what it expects to find, and where that is not so, nothing is done. It names the
    source of each file; where that was a medium, name it again: --plan FILE --media FILE --media-digest SHA256.

    With --import-root it is not a package that is brought, but the root certificate in which the chain of a signed
    PROGRAM, or of a file of certificates, ends: into the machine's store, once its whole fingerprint was confirmed.

    \b
    fundamen restore --rehearse /opt/tidebook/bin/tidebook
    fundamen restore --yes --launch /opt/tidebook/bin/tidebook -- --today
    fundamen restore -m /mnt/office --media saltgrass.iso --media-digest '3f2a ...' 'C:\\Tidebook\\tidebook.exe'
    fundamen restore --rehearse --save-plan tidebook.plan /opt/tidebook/bin/tidebook
    fundamen restore --plan tidebook.plan
    fundamen restore --install libcurl4 /opt/tidebook/bin/tidebook
    fundamen restore --with /opt/berths/bin/berths /opt/tidebook/bin/tidebook
    fundamen restore --pin 'Saltgrass Runtime==4.2.1' --because '4.3 draws no charts' /opt/tidebook/bin/tidebook
    fundamen restore --reference charts /opt/charts
    fundamen restore --import-root --issuer ardvane-root.cer 'C:\\Downloads\\setup.exe'
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    with output:
        pins = read_pins(pin, because)
        examined = machine()
        journal = journal_of(examined, options.home(), password)
        require_ready(examined, journal)
        desk = Desk(examined, journal, output, Consent(only_rehearse, yes), password)
        elsewhere = Asked(
            plan_file=plan_file,
            waiting=waiting,
            media=media,
            archive=not no_archive,
            reference=reference,
            lock_entry=lock_entry,
            artefacts=artefacts,
            import_root=import_root,
            fingerprint=fingerprint,
            issuer=issuer,
        )
        done = restored_otherwise(desk, program, elsewhere)
        if done is not None:
            finish(done)
        if program is None:
            raise UsageError("Nothing can be restored", "no program was named", "See: fundamen restore --help")
        asked = AskedOfFaults(
            also=also,
            pins=pins,
            because=because,
            install=install,
            media=media,
            archive=not no_archive,
            save_plan=save_plan,
            launching=Launching(arguments, launch_seconds) if launch else None,
            settle_seconds=settle_seconds,
            waiting=waiting,
        )
        programs = [find_program(examined, name) for name in (program, *with_programs)]
        status = restore_programs(desk, list(dict.fromkeys(programs)), asked)
    finish(status)
