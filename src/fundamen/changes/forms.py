"""The forms that kinds of change have in a plan (docs/formats/plan.md)."""

from typing import Annotated, Literal

import msgspec

from fundamen.formats.setting import Format, Plain
from fundamen.model.package import Sha256

Path = Annotated[str, msgspec.Meta(min_length=1, max_length=4096)]
Text = Annotated[str, msgspec.Meta(max_length=4096)]
Part = Annotated[str, msgspec.Meta(min_length=1, max_length=1000)]


class Expected(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What stands at a place; nothing, where all is empty."""

    sha256: str = ""  # of a file
    link: str = ""  # the target of a symbolic link


class _Step(msgspec.Struct, frozen=True, kw_only=True, forbid_unknown_fields=True, omit_defaults=True, tag_field="do"):
    path: Path
    because: Text = ""

    @property
    def title(self) -> str:
        """What it brings, in a few words for the history."""
        return f"{self.__struct_config__.tag!s} {self.path}"


class PutFile(_Step, frozen=True, kw_only=True, tag="place file"):
    """A file of a trusted source's package is put in its place."""

    sha256: Sha256
    size: Annotated[int, msgspec.Meta(ge=0)]
    name: Part  # of the component, by which sources are asked
    package: Text = ""  # for people
    executable: bool = False
    mode: Annotated[int, msgspec.Meta(ge=0, le=0o777)] | None = None
    expects: Expected | None = None

    @property
    def title(self) -> str:
        """As of every step."""
        return self.package or self.name


class MakeLink(_Step, frozen=True, kw_only=True, tag="make link"):
    """A symbolic link is made, or led elsewhere."""

    target: Path  # as it is to stand in the link
    expects: Expected | None = None


class MakeFolder(_Step, frozen=True, kw_only=True, tag="make folder"):
    """A folder is made where nothing stands."""

    mode: Annotated[int, msgspec.Meta(ge=0, le=0o3777)] = 0o755
    owner: Annotated[str, msgspec.Meta(max_length=100)] = ""  # a user by name; empty for whoever has the folder around
    group: Annotated[str, msgspec.Meta(max_length=100)] = ""


class CopyLink(_Step, frozen=True, kw_only=True, tag="copy link"):
    """A symbolic link is replaced by a copy of the file to which it leads."""


class SetValue(_Step, frozen=True, kw_only=True, tag="set value"):
    """One value of a settings file is changed, or put in."""

    key: Annotated[tuple[Part, ...], msgspec.Meta(min_length=1, max_length=64)]
    value: Plain
    format: Format | None = None  # where the file's name does not tell it
    expects: Plain | msgspec.UnsetType = msgspec.UNSET  # null: that it is not there


class RemoveValue(_Step, frozen=True, kw_only=True, tag="remove value"):
    """One value of a settings file is removed."""

    key: Annotated[tuple[Part, ...], msgspec.Meta(min_length=1, max_length=64)]
    format: Format | None = None


class SetEntry(_Step, frozen=True, kw_only=True, tag="set entry"):
    """A list in a setting, such as PATH, has exactly one entry of a name, at the beginning, at the end, or none."""

    key: Annotated[tuple[Part, ...], msgspec.Meta(min_length=1, max_length=64)]
    entry: Part
    place: Literal["first", "last", "nowhere"] = "first"
    separator: Annotated[str, msgspec.Meta(min_length=1, max_length=1)] = ":"
    without_dead: bool = False  # entries that lead to no folder go as well
    format: Format | None = None


class ImportRoot(_Step, frozen=True, kw_only=True, tag="import root"):
    """A root certificate goes into the machine's store; the path is only for people."""

    certificate: bytes  # DER; in JSON as Base64
    sha256: Sha256  # the root's fingerprint, as its owner read it out

    @property
    def title(self) -> str:
        """As of every step."""
        return f"the root certificate {self.sha256[:16]}..."


class SetAside(_Step, frozen=True, kw_only=True, tag="set aside"):
    """A file, or a folder with all but some names in it, gets another name beside its place."""

    keeps: tuple[Part, ...] = ()


class TakeColdCopy(_Step, frozen=True, kw_only=True, tag="take cold copy"):
    """A compressed copy of a folder is taken, before anything else is done."""


class SetRegistryValue(_Step, frozen=True, kw_only=True, tag="set registry value"):
    r"""A value of the registry is changed, or put in; the path is its key, as HKLM\Software\Tide."""

    name: Annotated[str, msgspec.Meta(max_length=1000)]  # empty: the unnamed one
    value: str | int | tuple[Text, ...]
    type: Literal["text", "expanded text", "number", "texts"] | None = (
        None  # where neither the value nor the old one tells
    )
    expects: str | int | tuple[Text, ...] | msgspec.UnsetType | None = msgspec.UNSET  # null: that it is not there


class RemoveRegistryValue(_Step, frozen=True, kw_only=True, tag="remove registry value"):
    """A value of the registry is removed."""

    name: Annotated[str, msgspec.Meta(max_length=1000)]


class SetRegistryEntry(_Step, frozen=True, kw_only=True, tag="set registry entry"):
    """A list in a value of the registry, such as Path, has exactly one entry of a name, or none."""

    name: Part
    entry: Part
    place: Literal["first", "last", "nowhere"] = "first"
    without_dead: bool = False


class Install(_Step, frozen=True, kw_only=True, tag="install packages"):
    """Packages are installed by the operating system's package manager; the path is only for people."""

    names: Annotated[tuple[Part, ...], msgspec.Meta(min_length=1, max_length=1000)]

    @property
    def title(self) -> str:
        """As of every step."""
        return ", ".join(self.names)


class EnableService(_Step, frozen=True, kw_only=True, tag="enable service"):
    """A service of systemd is enabled, by the links that have it started; the path is only for people."""

    name: Part

    @property
    def title(self) -> str:
        """As of every step."""
        return f"the service {self.name}"


class RunService(_Step, frozen=True, kw_only=True, tag="start service"):
    """A service of this host is started; the path is only for people."""

    name: Part

    @property
    def title(self) -> str:
        """As of every step."""
        return f"the service {self.name}"


class SetLimit(_Step, frozen=True, kw_only=True, tag="set kernel limit"):
    """A limit of this host's running kernel is set, or one of its fields; the path is only for people."""

    name: Part  # as sysctl writes it, such as kernel.sem
    value: Annotated[str, msgspec.Meta(pattern="^[0-9a-zA-Z_.+-]+( [0-9a-zA-Z_.+-]+)*$", max_length=1000)]
    field: Annotated[int, msgspec.Meta(ge=0, le=63)] | None = None  # of several, counted from 0; None: all of it
    expects: Text | None = None

    @property
    def title(self) -> str:
        """As of every step."""
        return f"the limit {self.name}"


class SetDirectoryEntry(_Step, frozen=True, kw_only=True, tag="set directory entry"):
    """Attributes of an entry of a directory (LDAP) get other values; the path is only for people."""

    server: Part
    entry: Annotated[str, msgspec.Meta(min_length=1, max_length=4096)]  # its distinguished name
    login: Annotated[str, msgspec.Meta(min_length=1, max_length=4096)]  # as whom; the password is asked for
    port: Annotated[int, msgspec.Meta(ge=1, le=65535)] = 389
    tls: bool = False
    roots: Text = ""  # a file of certificates that the directory's chain may end in
    texts: Annotated[dict[Part, tuple[Text, ...]], msgspec.Meta(max_length=100)] = msgspec.field(default_factory=dict)
    contents: dict[Part, tuple[bytes, ...]] = msgspec.field(default_factory=dict)  # of binary attributes; in Base64
    expects: dict[Part, tuple[bytes, ...]] = msgspec.field(default_factory=dict)  # what attributes are now; in Base64

    @property
    def title(self) -> str:
        """As of every step."""
        return f"the entry {self.entry}"


class UseInstaller(_Step, frozen=True, kw_only=True, tag="run installer"):
    """A publisher's installer, or its repair, is run in a prefix, if its signature is trusted."""

    sha256: Sha256
    arguments: Annotated[tuple[Text, ...], msgspec.Meta(max_length=100)] = ()
    log: Text = ""  # where the arguments have it write its log, as C:\\setup.log
    seconds: Annotated[float, msgspec.Meta(gt=0, le=86400)] = 1800.0

    @property
    def title(self) -> str:
        """As of every step."""
        return f"the installer {self.path}"


PlannedStep = (
    PutFile
    | MakeLink
    | MakeFolder
    | CopyLink
    | SetValue
    | RemoveValue
    | SetEntry
    | ImportRoot
    | SetAside
    | Install
    | EnableService
    | RunService
    | UseInstaller
    | SetLimit
    | SetDirectoryEntry
    | TakeColdCopy
    | SetRegistryValue
    | RemoveRegistryValue
    | SetRegistryEntry
)
