"""The one error tree. Every error says what happened, what it concerns and what to do about it."""

from __future__ import annotations

import re
from pathlib import Path

# Longer than this no text of an error is shown.
MOST_SHOWN, MOST_NAME = 2000, 190
# What steers a terminal or turns a line around instead of standing in it: controls, and the marks of direction.
_STEERS = re.compile("[\x00-\x1f\x7f-\x9f\u200e\u200f\u2028-\u202e\u2066-\u2069\ud800-\udfff\ufeff]")


def in_plain(text: str, most: int = MOST_SHOWN) -> str:
    """A text from outside as it may be shown in a line: nothing in it steers, and it has an end."""
    text = _STEERS.sub(lambda m: f"\\x{_shown(ord(m.group())):02x}", text[: most + 1])
    return text if len(text) <= most else f"{text[:most]}…"


def _shown(number: int) -> int:
    """The number that a letter is shown by; of a byte that was no text (PEP 383) the byte itself."""
    return number - 0xDC00 if 0xDC80 <= number <= 0xDCFF else number


def name_of(path: Path, most: int = MOST_NAME) -> str:
    """The name of a file as it is kept and shown, whatever letters the disk allows."""
    return in_plain(path.name, most)


def times(count: int) -> str:
    """How often, in words."""
    return "once" if count == 1 else "twice" if count == 2 else f"{count:,} times"


class YarvicError(Exception):
    """Base of all errors that a person is meant to read.

    `what` is one sentence on what happened, `concerns` the file, table, channel or line it is about,
    `remedy` the next thing to do. `details` may hold technical text that folds out on request.
    """

    def __init__(self, what: str, *, concerns: str = "", remedy: str = "", details: str = "") -> None:
        super().__init__(what)
        self.what = in_plain(what)
        self.concerns = in_plain(concerns)
        self.remedy = in_plain(remedy)
        self.details = details

    def __str__(self) -> str:
        where = f"{self.concerns}: " if self.concerns else ""
        end = "" if self.what.endswith((".", "?")) else "."
        return f"{where}{self.what}{end}" + (f" {self.remedy}" if self.remedy else "")


class UnitError(YarvicError):
    """A unit that is unknown, or that does not measure the quantity asked for."""


class CalibrationError(YarvicError):
    """A table, edit, layout or image that cannot be what it claims to be."""


class FormatError(YarvicError):
    """A file that cannot be read as what it is said to be."""


class EvidenceError(YarvicError):
    """Measured data that cannot answer the question put to it."""


class JobError(YarvicError):
    """A job file that cannot be opened, read or written."""


class JobInUseError(JobError):
    """The job is open for writing in another process."""


class JobNotWritableError(JobError):
    """The job's folder may not be written; the job may still be read."""


class JobGoneError(JobError):
    """The job's file was moved, deleted or replaced while it was open; what is held can still be saved."""


class LinkError(YarvicError):
    """The control unit did not do what was asked."""


class NotReadyError(LinkError):
    """The vehicle's readiness does not allow what was asked."""


class ReleaseError(YarvicError):
    """A revision that may not be released, or a package that is not what was signed."""


class Cancelled(YarvicError):
    """Work was cancelled; nothing half-done was kept."""
