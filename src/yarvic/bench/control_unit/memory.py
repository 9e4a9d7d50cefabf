"""Flash memory in a file: erased by sector, written where it is erased. What was written survives any kill."""

from __future__ import annotations

import mmap
from pathlib import Path

from yarvic.core.errors import LinkError

ERASED = 0xFF


class FlashMemory:
    """Bytes at addresses from `base` on. A write only clears bits, as in a flash cell: it needs erased ground."""

    def __init__(self, path: Path, base: int, sector: int) -> None:
        self.path, self.base, self.sector = path, base, sector
        self._file = path.open("r+b")
        self._bytes = mmap.mmap(self._file.fileno(), 0)

    @property
    def length(self) -> int:
        """How many bytes there are."""
        return len(self._bytes)

    def holds(self, address: int, size: int) -> bool:
        """Whether a range lies within."""
        return size > 0 and address >= self.base and address + size <= self.base + self.length

    def read(self, address: int, size: int) -> bytes:
        """The bytes of a range. Raises LinkError beyond the memory."""
        start = self._start(address, size)
        return self._bytes[start : start + size]

    def all(self) -> bytes:
        """All of them."""
        return self._bytes[:]

    def erase(self, address: int, size: int) -> None:
        """Erase a part of a sector; a sector that is cut off in the middle stays half erased."""
        start = self._start(address, size)
        self._bytes[start : start + size] = bytes([ERASED]) * size

    def write(self, address: int, data: bytes) -> None:
        """Write where it is erased; elsewhere both old and new bits are cleared, as in the cell."""
        start = self._start(address, len(data))
        there = self._bytes[start : start + len(data)]
        if there.count(ERASED) != len(there):
            data = bytes(a & b for a, b in zip(there, data, strict=True))
        self._bytes[start : start + len(data)] = data

    def sectors(self, address: int, size: int) -> list[tuple[int, int]]:
        """The sectors of a range, address and size; empty where the range is not of whole ones."""
        start, end = address - self.base, address - self.base + size
        if not self.holds(address, size) or start % self.sector or (end % self.sector and end != self.length):
            return []
        return [(self.base + at, min(self.sector, self.length - at)) for at in range(start, end, self.sector)]

    def close(self) -> None:
        """Let go of the file."""
        self._bytes.close()
        self._file.close()

    def _start(self, address: int, size: int) -> int:
        if not self.holds(address, size):
            raise LinkError(f"{size} bytes at 0x{address:X} are not in the memory", remedy="Read within the memory.")
        return address - self.base
