"""What the engine does now, as its unit measures it: written by whoever runs the engine, given by the unit by identifier.

A small file beside the unit's memory, so that engine and unit may be two processes. Single numbers change in one piece.
"""

from __future__ import annotations

import json
import mmap
import struct
from collections.abc import Mapping, Sequence
from pathlib import Path

NAMES, VALUES = "channels.json", "values.bin"
VALUE = struct.Struct(">f")


class LiveValues:
    """The values of channels, in canonical units; NaN where nothing was measured yet."""

    def __init__(self, folder: Path) -> None:
        self.names: tuple[str, ...] = tuple(json.loads((folder / NAMES).read_text("utf-8")))
        self._file = (folder / VALUES).open("r+b")
        self._bytes = mmap.mmap(self._file.fileno(), 0)

    @classmethod
    def create(cls, folder: Path, names: Sequence[str]) -> LiveValues:
        """Make the file for these channels."""
        (folder / VALUES).write_bytes(VALUE.pack(float("nan")) * len(names))
        (folder / NAMES).write_text(json.dumps(list(names)), "utf-8")
        return cls(folder)

    def put(self, values: Mapping[str, float]) -> None:
        """New values of some channels."""
        for n, name in enumerate(self.names):
            if name in values:
                VALUE.pack_into(self._bytes, n * VALUE.size, values[name])

    def raw(self, n: int) -> bytes:
        """The bytes of one, as they go over the bus."""
        return self._bytes[n * VALUE.size : (n + 1) * VALUE.size]

    def close(self) -> None:
        """Let go of the file."""
        self._bytes.close()
        self._file.close()
