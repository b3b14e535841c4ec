"""Processor architectures, by the names that this project shows."""

from enum import StrEnum


class Architecture(StrEnum):
    """An instruction set with its register width and, where there are two, its byte order."""

    X86 = "x86"
    X86_64 = "x86_64"
    X32 = "x32"  # x86_64 instructions with 32-bit pointers
    ARM = "armv7"
    AARCH64 = "aarch64"
    ARM64EC = "arm64ec"  # ARM64 instructions that keep the rules of x86_64, for x86_64 processes on ARM64
    ARM64E = "arm64e"  # AARCH64 with signed pointers: the system's own code on Apple silicon
    RISCV32 = "riscv32"
    RISCV64 = "riscv64"
    LOONGARCH64 = "loongarch64"
    PPC = "ppc"
    PPC64 = "ppc64"
    PPC64LE = "ppc64le"
    S390 = "s390"
    S390X = "s390x"
    MIPS = "mips"
    MIPSEL = "mipsel"
    MIPS64 = "mips64"
    MIPS64EL = "mips64el"
    SPARC = "sparc"
    SPARC64 = "sparc64"
    ALPHA = "alpha"
    IA64 = "ia64"
    M68K = "m68k"
    PARISC = "parisc"
    SH = "sh"
    ANY = "any"  # managed code without any processor's instructions
    UNKNOWN = "unknown"

    def serves(self, wanted: "Architecture") -> bool:
        """Whether what is for this architecture is of use where ``wanted`` is called for."""
        return self is wanted or Architecture.ANY in {self, wanted}

    def is_of_set(self, main: "Architecture") -> bool:
        """Whether a file of this architecture belongs to a publisher's set for ``main``.

        A set for ARM64 may hold ARM64EC files for the x86_64 processes there ("Arm64EC for Windows 11 apps").
        """
        return self.serves(main) or (self, main) == (Architecture.ARM64EC, Architecture.AARCH64)


class Platform(StrEnum):
    """The family of operating systems whose loader a program is made for."""

    LINUX = "linux"
    WINDOWS = "windows"
    MACOS = "macos"
    ANY = "any"  # files without any platform's code; no machine is of it

    @property
    def in_words(self) -> str:
        """The platform as people write it."""
        return {"macos": "macOS", "any": "any platform"}.get(self.value, self.value.capitalize())

    def serves(self, wanted: "Platform") -> bool:
        """Whether what is for this platform is of use on another one."""
        return self in {wanted, Platform.ANY}
