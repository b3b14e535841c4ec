"""All kinds of requirements. A new one is a module in ``kinds`` and a line here."""

from fundamen.prerequisites.kinds.account import Account
from fundamen.prerequisites.kinds.clock import Clock
from fundamen.prerequisites.kinds.command import CommandRequirement
from fundamen.prerequisites.kinds.device import Device
from fundamen.prerequisites.kinds.directory_entry import DirectoryEntry
from fundamen.prerequisites.kinds.disk_space import DiskSpace
from fundamen.prerequisites.kinds.driver import Driver
from fundamen.prerequisites.kinds.file import File
from fundamen.prerequisites.kinds.file_system import FileSystem
from fundamen.prerequisites.kinds.freshness import Freshness
from fundamen.prerequisites.kinds.kernel_setting import KernelSetting
from fundamen.prerequisites.kinds.language_runtime import LanguageRuntime
from fundamen.prerequisites.kinds.licence import LicenceRequirement
from fundamen.prerequisites.kinds.links import Links
from fundamen.prerequisites.kinds.memory import MemoryRequirement
from fundamen.prerequisites.kinds.package import PackageRequirement
from fundamen.prerequisites.kinds.port import Port
from fundamen.prerequisites.kinds.process import Process
from fundamen.prerequisites.kinds.program import Program
from fundamen.prerequisites.kinds.registry import RegistryValue
from fundamen.prerequisites.kinds.resource_limit import ResourceLimit
from fundamen.prerequisites.kinds.rights import Rights
from fundamen.prerequisites.kinds.runtime import Runtime
from fundamen.prerequisites.kinds.service import Service
from fundamen.prerequisites.kinds.setting import Setting
from fundamen.prerequisites.kinds.tls_endpoint import TlsEndpoint
from fundamen.prerequisites.kinds.tool import Tool
from fundamen.prerequisites.kinds.toolchain_part import ToolchainPartRequirement
from fundamen.prerequisites.kinds.tree import Tree
from fundamen.prerequisites.kinds.trust_root import TrustRoot
from fundamen.prerequisites.kinds.variable import VariableRequirement

AnyRequirement = (
    Account
    | Clock
    | CommandRequirement
    | Device
    | DirectoryEntry
    | DiskSpace
    | Driver
    | File
    | FileSystem
    | Freshness
    | KernelSetting
    | LanguageRuntime
    | LicenceRequirement
    | Links
    | MemoryRequirement
    | PackageRequirement
    | Port
    | Process
    | Program
    | RegistryValue
    | ResourceLimit
    | Rights
    | Runtime
    | Service
    | Setting
    | TlsEndpoint
    | Tool
    | ToolchainPartRequirement
    | Tree
    | TrustRoot
    | VariableRequirement
)
