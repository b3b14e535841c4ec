"""Which instruction-set levels a machine's processor has."""

from fundamen.machine.machine import Machine
from fundamen.model.errors import UnreadableError
from fundamen.model.paths import MachinePath

# Source: x86-64 psABI, "Micro-Architecture Levels", in the words of Linux's /proc/cpuinfo. Each level adds to the last.
_X86_64_LEVELS = (
    ("x86-64-v2", {"cx16", "lahf_lm", "popcnt", "sse4_1", "sse4_2", "ssse3"}),
    ("x86-64-v3", {"avx", "avx2", "bmi1", "bmi2", "f16c", "fma", "abm", "movbe", "xsave"}),
    ("x86-64-v4", {"avx512f", "avx512bw", "avx512cd", "avx512dq", "avx512vl"}),
)


_CPUINFO = MachinePath("/proc/cpuinfo")


def supported_levels(machine: Machine) -> tuple[str, ...]:
    """The x86-64 levels beyond the first, highest first; none where the processor is not available to be asked."""
    return machine.fact(_CPUINFO, _read_levels) if machine.was_running else ()


def supported_bits(machine: Machine) -> int:
    """The same as GNU_PROPERTY_X86_ISA_1_* has them: one bit a level; 0 where the processor is not available."""
    return (1 << len(supported_levels(machine)) + 1) - 1 if machine.was_running else 0


def level_in_words(bits: int) -> str:
    """The highest level of some bits."""
    highest = bits.bit_length()
    return "x86-64" if highest <= 1 else f"x86-64-v{highest}"


def _read_levels(machine: Machine, cpuinfo: MachinePath) -> tuple[str, ...]:
    try:
        with machine.open(cpuinfo) as source:
            text = source.read_at(0, 16_384).decode("ascii", "replace")
    except UnreadableError:
        return ()
    flags = next((set(line.split()) for line in text.splitlines() if line.startswith("flags")), set[str]())
    levels: list[str] = []
    for level, demanded in _X86_64_LEVELS:
        if not demanded <= flags:
            break
        levels.insert(0, level)
    return tuple(levels)
