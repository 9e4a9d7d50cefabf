"""The one way in: every file, column and document that came from outside is read under the same rules.

A reader states what it reads and how large that may be. Whatever goes wrong below comes out as one of our errors, with
the file, the place and the remedy; an error that nobody foresaw is a defect of ours, and is recorded as one.
"""

from __future__ import annotations

import errno
import functools
import os
import stat
import traceback
from collections import deque
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path
from typing import Any, BinaryIO, Concatenate, ParamSpec, TypeVar, cast

from yarvic.core.errors import FormatError, YarvicError, in_plain

P = ParamSpec("P")
T = TypeVar("T")


@dataclass(frozen=True)
class Reader:
    """A kind of file: what it is called, how large one may be, and the function that reads it."""

    key: str
    title: str
    suffix: str
    most_bytes: int
    read: Callable[..., Any]


@dataclass(frozen=True)
class Defect:
    """An error from below that no reader foresaw: what was read, and where it came from, without its content."""

    source: str
    kind: str
    trace: str


READERS: dict[str, Reader] = {}
# The latest errors that were converted at the door; a test that reads hostile files looks whether there are any.
DEFECTS: deque[Defect] = deque(maxlen=100)


def reader(
    key: str, title: str, suffix: str, most_bytes: int
) -> Callable[[Callable[Concatenate[Path, P], T]], Callable[Concatenate[Path, P], T]]:
    """Make a function whose first argument is a path the reader of a kind of file.

    It is called only for a file that is one, can be read, and is no larger than `most_bytes`.
    """

    def make(read: Callable[Concatenate[Path, P], T]) -> Callable[Concatenate[Path, P], T]:
        @functools.wraps(read)
        def bounded(path: Path, *args: P.args, **kwargs: P.kwargs) -> T:
            check_file(path, most_bytes)
            with understood(str(path)):
                return read(path, *args, **kwargs)

        READERS[key] = Reader(key, title, suffix, most_bytes, bounded)
        return cast(Callable[Concatenate[Path, P], T], bounded)

    return make


@contextmanager
def understood(
    source: str, error_type: type[YarvicError] = FormatError, remedy: str = "Choose another file."
) -> Iterator[None]:
    """Let only our own errors out of what reads something from outside."""
    try:
        yield
    except (YarvicError, KeyboardInterrupt, SystemExit, GeneratorExit):
        raise
    except MemoryError:
        raise error_type(
            "needs more memory than this machine has free",
            concerns=source,
            remedy="Close other programs, or read it on a larger machine. Nothing was changed.",
        ) from None
    except OSError as error:
        raise cannot(error, "read", source, error_type) from None
    except BaseException as error:  # noqa: BLE001 - a library in another language may raise what is no Exception
        trace = "".join(traceback.format_tb(error.__traceback__))
        DEFECTS.append(Defect(source, type(error).__name__, trace))
        raise error_type(
            "cannot be understood", concerns=source, remedy=remedy, details=f"{type(error).__name__}\n{trace}"
        ) from None


# What the system says, in the words of a person who has to do something about it: what, remedy.
_SYSTEM = {
    errno.ENOENT: ("is not there", "Check its name, or whether its disk is connected."),
    errno.EACCES: ("may not be {verb} by you", "Ask its owner, or copy it to a folder of yours."),
    errno.EPERM: ("may not be {verb} by you", "Ask its owner, or copy it to a folder of yours."),
    errno.EROFS: ("lies on a disk that is read only", "Choose a folder on another disk."),
    errno.ENOSPC: ("does not fit: the disk is full", "Free some space and do it again."),
    errno.EDQUOT: ("does not fit: your share of the disk is used up", "Free some of your files and do it again."),
    errno.EFBIG: ("is larger than this disk or account may hold", "Choose another disk."),
    errno.ENAMETOOLONG: ("has a name that is too long", "Give it a shorter name or path."),
    errno.ENOTDIR: ("is not there: a part of its path is no folder", "Check its path."),
    errno.EISDIR: ("is a folder", "Choose a file."),
    errno.ELOOP: ("is a link that leads nowhere", "Choose the file itself."),
    errno.EIO: ("could not be {verb}: the disk reports a fault", "Try a copy on another disk; save this disk first."),
    errno.ESTALE: ("is on a network folder that is gone", "Connect it again."),
    errno.EMFILE: ("cannot be opened: too many files are open", "Close some jobs and do it again."),
}


def cannot(
    error: OSError, verb: str, concerns: str, error_type: type[YarvicError] = FormatError, safe: str = ""
) -> YarvicError:
    """The error for what the system refused; `verb` is `read` or `written`, `safe` says what was not lost."""
    code = error.errno or 0
    if verb == "written" and code == errno.ENOENT:
        return error_type(
            "cannot be written: its folder is not there",
            concerns=concerns,
            remedy=f"Choose another folder. {safe}".strip(),
        )
    what, remedy = _SYSTEM.get(
        code, (f"cannot be {verb}: {in_plain(error.strerror or 'the system refused')}", "Try another place.")
    )
    return error_type(what.format(verb=verb), concerns=concerns, remedy=f"{remedy} {safe}".strip())


def looked_up(path: Path, error_type: type[YarvicError] = FormatError) -> os.stat_result:
    """What the system knows of a file. Raises an error of this type where the name leads nowhere."""
    try:
        return os.stat(path)
    except OSError as error:
        raise cannot(error, "read", str(path), error_type) from None
    except ValueError:
        raise error_type("is no name of a file", concerns=str(path), remedy="Choose another file.") from None


def check_file(path: Path, most_bytes: int, error_type: type[YarvicError] = FormatError) -> int:
    """The size of a file. Raises an error of this type where it is none, or has more bytes than are read."""
    return _size_of(looked_up(path, error_type), str(path), most_bytes, error_type)


def _size_of(found: os.stat_result, source: str, most_bytes: int, error_type: type[YarvicError]) -> int:
    if not stat.S_ISREG(found.st_mode):
        raise _no_file(found.st_mode, source, error_type)
    if found.st_size > most_bytes:
        raise error_type(
            f"has {found.st_size:,} bytes, at most {most_bytes:,} are read",
            concerns=source,
            remedy="Choose another file.",
        )
    return found.st_size


def _no_file(mode: int, source: str, error_type: type[YarvicError]) -> YarvicError:
    what = "is a folder" if stat.S_ISDIR(mode) else "is no file but a device or a pipe"
    return error_type(what, concerns=source, remedy="Choose a file.")


class OpenFile:
    """A file that is open: what is looked at and what is read are the same, whatever happens to its name."""

    def __init__(self, file: BinaryIO, size: int) -> None:
        self.file, self.size = file, size

    def __enter__(self) -> OpenFile:
        return self

    def __exit__(self, *_: object) -> None:
        self.file.close()

    def fileno(self) -> int:
        """Its number in this process."""
        return self.file.fileno()


def opened(path: Path, most_bytes: int) -> OpenFile:
    """A file of at most `most_bytes`, open for reading. Raises FormatError where it is none, or larger.

    Nothing waits for the other end of a pipe, and no device is woken: what is no file is closed again unread.
    """
    try:
        number = os.open(path, os.O_RDONLY | os.O_CLOEXEC | os.O_NONBLOCK | os.O_NOCTTY)
    except OSError as error:
        if error.errno == errno.ENXIO:  # the socket of another program
            raise _no_file(stat.S_IFSOCK, str(path), FormatError) from None
        raise cannot(error, "read", str(path)) from None
    except ValueError:
        raise FormatError("is no name of a file", concerns=str(path), remedy="Choose another file.") from None
    try:
        size = _size_of(os.fstat(number), str(path), most_bytes, FormatError)
        return OpenFile(os.fdopen(number, "rb"), size)
    except BaseException:
        os.close(number)
        raise


def read_bounded(path: Path, most_bytes: int) -> bytes:
    """The content of a file of at most `most_bytes`. Raises FormatError when it is larger or cannot be read."""
    with opened(path, most_bytes) as held:
        try:
            data = held.file.read(most_bytes + 1)
        except OSError as error:
            raise cannot(error, "read", str(path)) from None
    if len(data) > most_bytes:
        raise FormatError(
            f"has more than {most_bytes:,} bytes, which is all that is read",
            concerns=str(path),
            remedy="Choose another file.",
        )
    return data


def read_text(path: Path, most_bytes: int) -> str:
    """The text of a file of at most so many bytes, UTF-8, with or without its mark. Raises FormatError."""
    try:
        return read_bounded(path, most_bytes).decode("utf-8-sig")
    except UnicodeDecodeError as error:
        raise FormatError(
            "is not text in UTF-8",
            concerns=f"{path}, byte {error.start:,}",
            remedy="Save it as text in UTF-8, or choose another file.",
        ) from None


def check_memory(needed_bytes: float, source: str, error_type: type[YarvicError] = FormatError) -> None:
    """Raise an error of this type when something needs more memory than the machine has free.

    Where the system does not tell what is free, nothing is refused.
    """
    try:
        lines = Path("/proc/meminfo").read_text("ascii").splitlines()
        free = next(int(line.split()[1]) * 1024 for line in lines if line.startswith("MemAvailable:"))
    except (OSError, ValueError, StopIteration):
        return
    if needed_bytes > free:
        raise error_type(
            f"needs about {needed_bytes / 2**30:.1f} GiB of memory, {free / 2**30:.1f} are free",
            concerns=source,
            remedy="Close other programs, or read it on a larger machine.",
        )
