"""What a job's history was at each signature, kept outside the job: lines that were cut from its end are missed there.

A plain text file, a line each: the name of the form, the sum of the job's first line, how many lines it had, the sum of
the last, and the time. It proves nothing by itself; it is kept where whoever changes the job does not come to.
"""

from __future__ import annotations

import os
import re
from dataclasses import dataclass
from pathlib import Path

from yarvic.core.errors import FormatError, name_of
from yarvic.core.job.history import History
from yarvic.core.reading import cannot, read_text, reader

FORM = "yarvic-witness-1"
MOST_BYTES = 64 * 1024 * 1024
_LONGEST = 400  # bytes of a line and more
_LINE = re.compile(rf"{FORM} ([0-9a-f]{{64}}) ([0-9]{{1,9}}) ([0-9a-f]{{64}}) (\S{{1,40}})")


@dataclass(frozen=True)
class Witnessed:
    """A history at one moment: by its first line, so many lines, the last with this sum; `by` says who kept it."""

    start: str
    lines: int
    head: str
    time: str
    by: str

    def fault(self, history: History) -> str:
        """What of it a history of the same job does not have; empty where all is there, and for another job."""
        if self.start != history.start or history.has(self.lines, self.head):
            return ""
        if self.lines > history.lines:
            return f"{self.by} names line {self.lines} of {self.time[:10]}: lines were cut off, there are {history.lines}"
        return f"{self.by} names line {self.lines} of {self.time[:10]} with another sum: the history was written anew"


@reader("witness", "What a job's history was at each signature", ".txt", MOST_BYTES)
def read_witness(path: Path) -> list[Witnessed]:
    """The lines of a witness file. Raises FormatError naming the line that is none; a last one that was cut off in the
    middle of writing is passed over.
    """
    found = []
    text = read_text(path, MOST_BYTES)
    lines = text.splitlines()
    if not text.endswith("\n") and lines and _is_cut(lines[-1].encode("utf-8")):
        lines.pop()
    for number, line in enumerate(lines, 1):
        if not line.strip():
            continue
        parts = _LINE.fullmatch(line.strip())
        if parts is None:
            raise FormatError(
                "is no line of a witness file",
                concerns=f"{path}, line {number:,}",
                remedy="Take the line out, or choose another file.",
            )
        start, count, head, time = parts.groups()
        found.append(Witnessed(start, int(count), head, time, name_of(path)))
    return found


def _is_cut(last: bytes) -> bool:
    """Whether a last line without an end is the beginning of one of ours."""
    form = FORM.encode("ascii")
    return bool(last) and form.startswith(last[: len(form)]) and not _LINE.fullmatch(last.decode("ascii", "replace"))


def _end_lines(file: int) -> bytes:
    """Take a last line off that was cut off in the middle of writing; the end that a whole one lacks."""
    size = os.fstat(file).st_size
    tail = os.pread(file, _LONGEST, max(size - _LONGEST, 0))
    last = tail[tail.rfind(b"\n") + 1 :]
    if _is_cut(last):
        os.ftruncate(file, size - len(last))
        return b""
    return b"\n" if last else b""


def add_witness(path: Path, start: str, lines: int, head: str, time: str) -> None:
    """Add a line to a witness file, at once on the disk. Raises FormatError."""
    line = f"{FORM} {start} {lines} {head} {time}\n"
    try:
        file = os.open(path, os.O_RDWR | os.O_APPEND | os.O_CREAT | os.O_CLOEXEC, 0o600)
        try:
            os.write(file, _end_lines(file) + line.encode("ascii"))
            os.fsync(file)
        finally:
            os.close(file)
    except OSError as error:
        raise cannot(error, "written", str(path)) from None
