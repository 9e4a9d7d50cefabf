"""What reading one file may take: memory, time, the size of the answer."""

from __future__ import annotations

import resource
from dataclasses import dataclass
from pathlib import Path

MIB = 1 << 20


@dataclass(frozen=True)
class Bounds:
    """Bounds of a process: memory beyond what it has at first, processor time, time by the clock, bytes of the answer."""

    memory_bytes: int
    processor_s: int
    clock_s: float
    answer_bytes: int


def for_size(size: int) -> Bounds:
    """Bounds for a file of so many bytes. Packed numbers take up to a hundred times their size, and text that is gone
    through line by line up to six seconds a mebibyte of a busy processor: our choices, from rows of the benchmarks.
    """
    memory = 768 * MIB + 100 * size
    processor_s = 8 + 6 * size // MIB
    return Bounds(memory, processor_s, 30.0 + 4.0 * processor_s, 256 * MIB + 200 * size)


def confine(bounds: Bounds) -> None:
    """Put this process under bounds; there is no way back."""
    data, whole = _taken("VmData"), _taken("VmSize")
    _lower(resource.RLIMIT_DATA, data + bounds.memory_bytes)
    # Threads and libraries take addresses without memory behind them.
    _lower(resource.RLIMIT_AS, whole + 2 * bounds.memory_bytes + 4096 * MIB)
    _lower(resource.RLIMIT_CPU, bounds.processor_s, 1)  # the first ends it with a word, the second in any case
    _lower(resource.RLIMIT_FSIZE, bounds.answer_bytes)
    _lower(resource.RLIMIT_CORE, 0)
    _lower(resource.RLIMIT_NOFILE, 256)


def _lower(kind: int, most: int, beyond: int = 0) -> None:
    """Lower a limit to so much, for good to so much more; one that is lower already stays."""
    before = resource.getrlimit(kind)[1]
    found = [n if before == resource.RLIM_INFINITY else min(n, before) for n in (most, most + beyond)]
    resource.setrlimit(kind, (found[0], found[1]))


def _taken(entry: str) -> int:
    """Bytes that this process has of a kind, by the kernel's own table."""
    lines = Path("/proc/self/status").read_text("ascii").splitlines()
    return next(int(line.split()[1]) * 1024 for line in lines if line.startswith(f"{entry}:"))
