"""The door for what a library reads: the file is opened and bounded here, and read in a process of its own."""

from __future__ import annotations

import atexit
import functools
from collections.abc import Callable
from pathlib import Path
from typing import Any, Generic, TypeVar, get_type_hints

from yarvic.core.cage.bounds import for_size
from yarvic.core.cage.cage import Cage, Read, Refused
from yarvic.core.reading import DEFECTS, READERS, Defect, Reader, opened, understood

T = TypeVar("T")
# What is loaded before a file comes, and what while there is nothing to read.
CAGE = Cage(
    ("yarvic.core.formats.logs.read", "polars"),
    ("yarvic.core.formats.tables_xlsx", "openpyxl", "asammdf"),
    "yarvic.core.formats.logs.read:warm",
)
atexit.register(CAGE.close)


class CagedReader(Generic[T]):
    """The reader of a kind of file whose bytes are not looked at in this process; called with a path."""

    def __init__(self, inside: Callable[[bytes, str], T], most_bytes: int) -> None:
        functools.update_wrapper(self, inside)
        self.inside, self.most_bytes = inside, most_bytes
        self._name = f"{inside.__module__}:{inside.__qualname__}"

    def __call__(self, path: Path) -> T:
        return self.read(path).value  # type: ignore[no-any-return]

    def read(self, path: Path, cancelled: Callable[[], bool] = lambda: False, *, summed: bool = False) -> Read:
        """What the file holds, with the sum of the bytes that were read if wanted. Raises FormatError, Cancelled."""
        source = str(path)
        with opened(path, self.most_bytes) as file, understood(source):
            try:
                expected: Any = get_type_hints(self.inside)["return"]
                return CAGE.read(self._name, file.fileno(), source, expected, for_size(file.size), cancelled, summed)
            except Refused as refused:
                DEFECTS.extend(Defect(*parts) for parts in refused.defects)
                raise refused.error from None


def caged_reader(
    key: str, title: str, suffix: str, most_bytes: int
) -> Callable[[Callable[[bytes, str], T]], CagedReader[T]]:
    """Make a function of a file's bytes and the name it goes by the reader of a kind of file, in a process of its own.

    What it gives is made of what `cage.wire` can carry.
    """

    def make(inside: Callable[[bytes, str], T]) -> CagedReader[T]:
        found = CagedReader(inside, most_bytes)
        READERS[key] = Reader(key, title, suffix, most_bytes, found)
        return found

    return make
