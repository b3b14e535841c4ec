"""``fundamen authority``: the certificate authority of a directory."""

import functools
import os
import shlex
from typing import Any

import click
import msgspec

from fundamen.certificate_authorities.examining import (
    USUAL_ATTRIBUTE,
    AuthorityState,
    EntryRequirements,
    examine_authority,
)
from fundamen.cli import options
from fundamen.cli.exits import Exit
from fundamen.cli.helping import CommandGroup, SharedOption
from fundamen.cli.output import Output, finish, require_free
from fundamen.cli.writing import write_file
from fundamen.directories.connection import DirectoryPlace, open_directory
from fundamen.formats.certificates.certificate_file import read_certificates
from fundamen.machine.file_bytes import FileBytes
from fundamen.machine.tls_server import fetch_certificates
from fundamen.messages import Message, as_command, say
from fundamen.model.display import printable
from fundamen.model.errors import UnreadableError, UsageError
from fundamen.model.paths import HostPath, MachinePath
from fundamen.report.contracts.authority import authority_record
from fundamen.report.repairing.authority_text import authority_text
from fundamen.trust.certificate import Certificate, read_certificate

_LDAP, _LDAPS = 389, 636


@click.group("authority", cls=CommandGroup)
def command() -> None:
    """Check the certificate authority that a directory (LDAP) names, and renew its certificates.

    \b
    fundamen authority check 'cn=Marram-CA,dc=marram,dc=example' --server dir.example --host-in seeAlso
    fundamen authority renew 'cn=CA,dc=marram,dc=example' --server dir.example --tls --key ca.pem \\
        --login 'cn=admin,dc=marram,dc=example' --save-plan ca.plan
    fundamen authority reissue gauge.pem --authority marram-ca.pem --key ca-key.pem --write gauge-new.pem
    """  # noqa: D301 - \b is click's mark for lines that stay as they are


class _Where(msgspec.Struct, frozen=True, kw_only=True):
    """The directory's address and the attributes of the authority, from the options."""

    server: str
    tls: bool
    roots: str
    seconds: float
    certificate_in: str
    host_in: str | None
    host_port: int | None

    def place(self) -> DirectoryPlace:
        """Where it answers. Raises: UsageError."""
        host, port = options.host_and_port(self.server, _LDAPS if self.tls else _LDAP)
        return DirectoryPlace(
            host.strip("[]"), port, self.tls, os.path.abspath(self.roots) if self.roots else "", self.seconds
        )

    def requirements(
        self, entry: str, has: tuple[str, ...] = (), issued: tuple[tuple[str, Certificate], ...] = ()
    ) -> EntryRequirements:
        """The requirements on the authority."""
        return EntryRequirements(
            entry=entry,
            certificate_in=self.certificate_in,
            host_in=self.host_in,
            host_port=self.host_port,
            has=has,
            issued=issued,
        )

    @property
    def words(self) -> list[str]:
        """The same as words of a command line."""
        given = [("--roots", self.roots), ("--host-in", self.host_in), ("--host-port", self.host_port)]
        given += [("--certificate-in", self.certificate_in)] if self.certificate_in != USUAL_ATTRIBUTE else []
        said = [word for name, value in given if value for word in (name, str(value))]
        return ["--server", self.server, *(["--tls"] if self.tls else []), *said]


def _where_options(command_: options.Command) -> options.Command:
    """Give a command ``where``."""

    @click.option(
        "--server",
        cls=SharedOption,
        section="The directory",
        required=True,
        metavar="HOST[:PORT]",
        help="The directory server.",
    )
    @click.option(
        "--tls",
        cls=SharedOption,
        section="The directory",
        is_flag=True,
        help="Use TLS; without it no password leaves this host.",
    )
    @click.option(
        "--roots",
        cls=SharedOption,
        section="The directory",
        default="",
        metavar="FILE",
        help="Root certificates (PEM) for the server.",
    )
    @click.option(
        "--seconds",
        cls=SharedOption,
        section="The directory",
        type=click.FloatRange(0.1, 120),
        default=5.0,
        show_default=True,
        help="Wait at most so long.",
    )
    @click.option(
        "--certificate-in",
        cls=SharedOption,
        section="The directory",
        default=USUAL_ATTRIBUTE,
        show_default=True,
        metavar="ATTRIBUTE",
    )
    @click.option(
        "--host-in",
        cls=SharedOption,
        section="The directory",
        metavar="ATTRIBUTE",
        help="The attribute that names the authority's host.",
    )
    @click.option(
        "--host-port",
        cls=SharedOption,
        section="The directory",
        type=click.IntRange(1, 65535),
        help="The port on which that host must answer.",
    )
    @functools.wraps(command_)
    def wrapper(**said: Any) -> None:  # noqa: ANN401 - click's own
        where = _Where(**{name: said.pop(name) for name in _Where.__struct_fields__})
        command_(where=where, **said)

    return wrapper


@command.command("check", short_help="Check the entry, its certificate and its host.")
@click.argument("entry")
@_where_options
@click.option("--has", multiple=True, metavar="ATTRIBUTE", help="Another attribute that it must have.")
@click.option("--issued", multiple=True, metavar="HOST:PORT", help="A server whose certificate it must have issued.")
@options.output_options
def check(entry: str, *, where: _Where, has: tuple[str, ...], issued: tuple[str, ...], output: Output) -> None:
    """Check the authority at ENTRY: its entry, its certificate, the host that it names, and what it must have issued.

    Nothing is changed.

    \b
    fundamen authority check 'cn=Marram-CA,dc=marram,dc=example' --server dir.example --host-in seeAlso
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    status = Exit.NOTHING_AT_FAULT
    with output:
        place = where.place()
        servers = [options.host_and_port(each, _LDAPS) for each in issued]
        with output.say_working(f"Asking {place.title}"):
            own = tuple((f"{host}:{port}", _shown_by(host, port, place.seconds)) for host, port in servers)
            state = _examine_place(place, where.requirements(entry, has, own))
        _show(state, place, _next(state, where), output)
        status = Exit.FAULT_FOUND if state.faults else Exit.NOTHING_AT_FAULT
    finish(status)


@command.command("renew", short_help="Plan a new certificate with the authority's own key.")
@click.argument("entry")
@_where_options
@click.option("--key", "key_file", metavar="FILE", help="Its private key, for a new certificate.")
@click.option("--key-password", metavar="FILE", help="Holds the password of the key.")
@click.option("--name", metavar="NAME", help="The authority's name, where its old certificate is lost.")
@click.option(
    "--years", type=click.IntRange(1, 40), default=10, show_default=True, help="So long is the new one valid."
)
@click.option("--host", metavar="HOST", help="Make the entry name this host.")
@click.option("--login", required=True, metavar="NAME", help="The distinguished name that may change the entry.")
@click.option("--for", "program", metavar="PROGRAM", help="The program that it is done for; kept in the history.")
@click.option("--save-plan", required=True, metavar="FILE", help="Write the plan to FILE, for 'fundamen plans run'.")
@options.output_options
def renew(
    entry: str,
    *,
    where: _Where,
    key_file: str | None,
    key_password: str | None,
    name: str | None,
    years: int,
    host: str | None,
    login: str,
    program: str | None,
    save_plan: str,
    output: Output,
) -> None:
    """Write a plan that gives the authority at ENTRY a new certificate with its own key and name, or another host.

    What the authority has issued stays valid. Nothing is changed before 'fundamen plans run'.

    \b
    fundamen authority renew 'cn=CA,dc=marram,dc=example' --server dir.example --tls --key ca.pem \\
        --login 'cn=admin,dc=marram,dc=example' --save-plan ca.plan
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    with output:
        from fundamen.restore.for_authority import plan_authority  # noqa: PLC0415 - only where a plan is made
        from fundamen.restore.plan_file import plan_bytes  # noqa: PLC0415

        _require_sense(where, key_file, name, host, save_plan)
        place = where.place()
        with output.say_working(f"Asking {place.title}"):
            state = _examine_place(place, where.requirements(entry))
        if not state.held:
            raise UsageError(
                what=say("cli.the-authority-cannot-be-renewed", entry=printable(entry)),
                why=say("cli.has-no-such-entry-and-only", title=place.title),
                do=say("cli.have-its-entry-made-by-the"),
            )
        certificate = None
        if key_file is not None:
            certificate = _renew(state.certificate, key_file, options.secret(key_password), name, years)
        path = MachinePath(program) if program is not None else None
        plan = plan_authority(options.this_host(), path, state, place, login, host, certificate, options.now())
        write_file(save_plan, plan_bytes(plan), output)
        _show(state, place, (as_command(f"fundamen plans run {shlex.quote(save_plan)}"),), output)
    finish(Exit.NOTHING_AT_FAULT)


@command.command("reissue", short_help="Issue a certificate again, with a new period.")
@click.argument("certificate")
@click.option("--authority", "authority_file", required=True, metavar="FILE", help="The authority's certificate.")
@click.option("--key", "key_file", required=True, metavar="FILE", help="The authority's private key.")
@click.option("--key-password", metavar="FILE", help="Holds the password of the key.")
@click.option(
    "--days", type=click.IntRange(1, 3650), default=365, show_default=True, help="So long is the new one valid."
)
@click.option("--write", "target", required=True, metavar="FILE", help="Write the new certificate to FILE (PEM).")
@options.output_options
def reissue_(
    certificate: str,
    *,
    authority_file: str,
    key_file: str,
    key_password: str | None,
    days: int,
    target: str,
    output: Output,
) -> None:
    """Issue CERTIFICATE again: the same subject, key, names and purposes, and a new period of validity.

    The old file stays as it is. It is not needed while the certificate is valid and the authority has kept its key.

    \b
    fundamen authority reissue gauge.pem --authority marram-ca.pem --key ca-key.pem --write gauge-new.pem
    """  # noqa: D301 - \b is click's mark for lines that stay as they are
    with output:
        from fundamen.certificate_authorities.making import in_pem, reissue  # noqa: PLC0415 - only where one is made

        require_free(target)
        key = _key(key_file, options.secret(key_password))
        der = reissue(_certificate(certificate), _certificate(authority_file), key, options.now(), days)
        write_file(target, in_pem(der), output)
        made = read_certificate(der)
        output.show(f"{made.subject.whole} holds until {made.not_after:%Y-%m-%d}; SHA-256 {made.sha256}\n")
    finish(Exit.NOTHING_AT_FAULT)


def _require_sense(where: _Where, key_file: str | None, name: str | None, host: str | None, save_plan: str) -> None:
    """Make sure that the words of the command line fit together. Raises: UsageError."""
    why = ""
    if key_file is None and host is None:
        why = "neither a key nor a host was named, so there is nothing to change"
    elif host is not None and where.host_in is None:
        why = "--host needs --host-in: the attribute that names the authority's host"
    elif name is not None and key_file is None:
        why = "--name is of a certificate that is made, and that needs --key"
    if why:
        raise UsageError(say("cli.nothing-is-planned"), why, say("cli.see-fundamen-authority-renew-help"))
    require_free(save_plan)


def _examine_place(place: DirectoryPlace, wanted: EntryRequirements) -> AuthorityState:
    with open_directory(place) as directory:
        return examine_authority(directory, wanted, options.now(), place.seconds)


def _renew(old: Certificate | None, key_file: str, password: str, name: str | None, years: int) -> bytes:
    from fundamen.certificate_authorities.making import new_authority, renew_authority  # noqa: PLC0415

    key = _key(key_file, password)
    if old is not None:
        return renew_authority(old, key, options.now(), years)
    if name is None:
        raise UsageError(
            what=say("cli.the-authority-cannot-be-renewed-2"),
            why=say("cli.it-has-no-certificate-any-more"),
            do=say("cli.say-it-with-name-such-as"),
        )
    return new_authority(name, key, options.now(), years)


def _key(name: str, password: str) -> Any:  # noqa: ANN401 - making.Key, which loads the library
    from fundamen.certificate_authorities.making import read_key  # noqa: PLC0415

    with _open_file(name) as source:
        return read_key(source.read_at(0, source.size), name, password)


def _certificate(name: str) -> Certificate:
    """The first certificate of a file. Raises: UnreadableError."""
    with _open_file(name) as source:
        return read_certificate(read_certificates(source).certificates[0])


def _open_file(name: str) -> FileBytes:
    try:
        return FileBytes(HostPath(os.path.abspath(name)), name)
    except OSError as error:
        raise UnreadableError(
            say("cli.cannot-be-read", path=printable(name)),
            error.strerror or str(error),
            say("cli.name-a-file-that-you-may"),
        ) from error


def _shown_by(host: str, port: int, seconds: float) -> Certificate:
    chain = fetch_certificates(host, port, seconds)
    if not chain:
        raise UnreadableError(
            say("cli.shows-no-certificate", host=printable(host), port=port),
            say("cli.it-has-none"),
            say("cli.name-another-port"),
        )
    return read_certificate(chain[0])


def _show(state: AuthorityState, place: DirectoryPlace, following: tuple[Message, ...], output: Output) -> None:
    if output.as_json:
        output.show_record(authority_record(state, place.title, following))
    else:
        output.show(authority_text(state, place.title, following, drawn=output.drawn))


def _next(state: AuthorityState, where: _Where) -> tuple[Message, ...]:
    wrong = {fault.about for fault in state.faults}
    words = ["fundamen", "authority", "renew", state.wanted.entry, *where.words, "--login", "NAME"]
    host = state.host
    key = ["--key", "KEY"] if wrong & {"its certificate", "its time"} and state.held else []
    other = ["--host", "HOST"] if "its host" in wrong and host is not None and not host.name else []
    steps = [as_command(shlex.join([*words, *key, *other, "--save-plan", "plan.json"]))] if key or other else []
    if "its host" in wrong and host is not None and host.name:
        steps.append(say("cli.start-what-answers-there", host=host.name))
    return tuple(steps)
