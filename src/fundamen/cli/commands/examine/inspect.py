"""``fundamen inspect``."""

from collections.abc import Callable
from typing import TYPE_CHECKING

import click

from fundamen.cli import options
from fundamen.cli.exits import Exit, exit_of
from fundamen.cli.helping import Subcommand
from fundamen.cli.output import Output, finish
from fundamen.cli.tasks.authorities import authorities_at, given_certificates
from fundamen.machine.machine import Machine
from fundamen.machine.programs import find_program
from fundamen.messages import say
from fundamen.model.errors import FundamenError, UsageError
from fundamen.model.isolation import Isolated
from fundamen.report.commands import import_command
from fundamen.trace.inspection import Inspection, holds_certificates, inspect_file

if TYPE_CHECKING:
    from fundamen.evidence.publisher import PublisherAuthority
    from fundamen.trace.certificates import CertificateInspection


@click.command("inspect", cls=Subcommand)
@click.argument("files", nargs=-1, metavar="[FILE]...")
@click.option("--exports", is_flag=True, help="Also list the symbols that the file exports.")
@click.option("--server", multiple=True, metavar="HOST:PORT", help="Check the certificates of a TLS server.")
@click.option("--issuer", multiple=True, metavar="FILE", help="Certificates or revocation lists to build chains with.")
@click.option("--password-file", metavar="FILE", help="The password of a keystore.")
@options.machine_options
@options.output_options
def command(
    files: tuple[str, ...],
    *,
    exports: bool,
    server: tuple[str, ...],
    issuer: tuple[str, ...],
    password_file: str | None,
    machine: Callable[[], Machine],
    output: Output,
) -> None:
    """Show what each FILE is: format, architecture, needs, publisher, damage; or a TLS server's certificates.

    A signature is judged by the certificates that the machine trusts; the chain is drawn from the root down.

    \b
    fundamen inspect /usr/lib/x86_64-linux-gnu/libz.so.1
    fundamen inspect --machine /mnt/office 'C:\\Downloads\\setup.exe' --issuer harbour-ca.cer
    fundamen inspect --server tides.example:443
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    worst = Exit.NOTHING_AT_FAULT
    with output:
        if not files and not server:
            raise UsageError(
                say("cli.nothing-can-be-inspected"),
                say("cli.no-file-and-no-server-was"),
                say("cli.see-fundamen-inspect-help"),
            )
        inspecting = _Inspecting(machine(), issuer, password_file, output, exports=exports)
        asked = [(name, name, inspecting.file) for name in files] + [(name, "", inspecting.server) for name in server]
        for index, (name, path, inspect) in enumerate(asked):
            try:
                with Isolated(name), output.say_working(f"Reading {name}"):
                    inspection = inspect(name)
                    importing = inspecting.import_command(path)
                with Isolated(name):
                    _show(output, inspection, importing, first=index == 0)
            except FundamenError as error:
                worst = max(worst, exit_of(error))
                _fail(output, name, error)
                continue
            worst = max(worst, Exit.FAULT_FOUND if inspection.is_at_fault else Exit.NOTHING_AT_FAULT)
    finish(worst)


class _Inspecting:
    """The inputs that the options name, opened once for all files; certificates are read only for a signed file."""

    def __init__(
        self, machine: Machine, issuer: tuple[str, ...], password_file: str | None, output: Output, *, exports: bool
    ) -> None:
        self._machine = machine
        self._authorities = authorities_at(options.home(), machine.platform, options.now(), output, publishers=False)
        self._issuer = issuer
        self._password_file = password_file
        self._exports = exports
        self._known: PublisherAuthority | None = None

    def file(self, name: str) -> "Inspection | CertificateInspection":
        path = find_program(self._machine, name)
        if holds_certificates(self._machine, path):
            from fundamen.trace.certificates import inspect_certificates  # noqa: PLC0415 - only for such a file

            password = options.secret(self._password_file)
            issuers = self._publishers().issuers(self._machine)
            return inspect_certificates(self._machine, path, issuers, options.now(), password)
        publishers = self._publishers() if self._machine.binary(path).may_be_signed else None
        return inspect_file(self._machine, path, self._authorities, publishers, exports=self._exports)

    def server(self, name: str) -> "CertificateInspection":
        from fundamen.machine.tls_server import fetch_certificates  # noqa: PLC0415 - only where a server is asked
        from fundamen.trace.certificates import inspect_server  # noqa: PLC0415

        host, port = options.host_and_port(name, 443)
        shown = fetch_certificates(host, port)
        return inspect_server(host, port, shown, self._publishers().issuers(self._machine), options.now())

    def import_command(self, path: str) -> str:
        """The command that imports the root of a file's chain, or of a server's where the path is empty."""
        return import_command(self._machine, path, self._issuer)

    def _publishers(self) -> "PublisherAuthority":
        if self._known is None:
            self._known = given_certificates(self._issuer, options.now())
        return self._known


def _show(output: Output, inspection: "Inspection | CertificateInspection", importing: str, *, first: bool) -> None:
    if output.as_json:
        from fundamen.report.contracts.inspecting import certificates_record, inspect_record  # noqa: PLC0415

        if isinstance(inspection, Inspection):
            output.show_record(inspect_record(inspection))
        else:
            output.show_record(certificates_record(inspection))
        return
    if isinstance(inspection, Inspection):
        from fundamen.report.examining.inspect_text import inspection_text  # noqa: PLC0415 - only where it is asked for

        text = inspection_text(inspection, importing, drawn=output.drawn)
    else:
        from fundamen.report.examining.trust_text import certificates_text  # noqa: PLC0415

        text = certificates_text(inspection, importing, drawn=output.drawn)
    output.show(("" if first else "\n") + text)


def _fail(output: Output, name: str, error: FundamenError) -> None:
    if output.as_json:
        from fundamen.report.contracts.inspecting import InspectRecord  # noqa: PLC0415
        from fundamen.report.contracts.line import failure  # noqa: PLC0415

        output.show_record(InspectRecord(path=name, error=failure(error)))
    output.tell(error)
