"""A folder that is watched for what loggers and dynos write there: what appeared, once it has stopped growing."""

from __future__ import annotations

import os
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from yarvic.core.errors import JobError

# More than these a folder of logs does not hold; a folder that does is none.
MOST_ENTRIES = 20_000


@dataclass(frozen=True)
class Entry:
    """A file in the folder: since when it lies there as it is (s since 1970), and its size in bytes.

    Not when it was written: a log that is copied from a card keeps that, and appears all the same.
    """

    name: str
    there_s: float
    size: int


def entries(folder: Path) -> list[Entry]:
    """The files of a folder, not those of folders in it. Raises JobError where it cannot be read."""
    found: list[Entry] = []
    try:
        with os.scandir(folder) as listing:
            for each in listing:
                if len(found) > MOST_ENTRIES:
                    raise JobError(
                        f"holds more than {MOST_ENTRIES:,} files",
                        concerns=str(folder),
                        remedy="Watch another folder.",
                    )
                if each.is_file(follow_symlinks=False) and not each.name.startswith("."):
                    state = each.stat(follow_symlinks=False)
                    found.append(Entry(each.name, state.st_ctime, state.st_size))
    except OSError as error:
        raise JobError(
            f"the folder cannot be read ({os.strerror(error.errno or 0)})", concerns=str(folder),
            remedy="Watch another folder, or make it readable.",
        ) from None  # fmt: skip
    return found


@dataclass
class FolderWatch:
    """What is known of a folder. `until_s` is when it was last dealt with: what came later is offered."""

    folder: Path
    until_s: float
    _seen: dict[str, Entry] = field(default_factory=dict)
    _offered: dict[str, Entry] = field(default_factory=dict)

    def look(self, found: Sequence[Entry]) -> list[Path]:
        """Take a look's entries in; gives all that is offered now, the oldest first.

        A file is offered when it looks at two looks as it did: one that is still being written is not.
        """
        there = {e.name: e for e in found if e.there_s > self.until_s and e.size > 0}
        for name, entry in there.items():
            if self._seen.get(name) == entry:
                self._offered[name] = entry
            elif name in self._offered:
                del self._offered[name]  # it grows again
        self._offered = {n: e for n, e in self._offered.items() if n in there}
        self._seen = there
        return [self.folder / e.name for e in sorted(self._offered.values(), key=lambda e: (e.there_s, e.name))]

    def dealt_with(self) -> float:
        """What is offered now is offered no more; gives until when that holds."""
        self.until_s = max([self.until_s, *(e.there_s for e in self._offered.values())])
        self._offered.clear()
        return self.until_s
