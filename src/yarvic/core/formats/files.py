"""Writing whole files or none."""

from __future__ import annotations

import errno
import os
import re
import unicodedata
from contextlib import suppress
from pathlib import Path

from yarvic.core.errors import FormatError
from yarvic.core.reading import cannot

# Where a file system keeps no file without a name, a part under this name is written first; kills can leave one.
PART = ".part"
_NO_NAMELESS = (errno.EOPNOTSUPP, errno.EISDIR, errno.EINVAL, errno.ENOENT)
_NO_LINKS = (errno.EPERM, errno.EOPNOTSUPP, errno.ENOSYS, errno.EMLINK, errno.EXDEV, errno.EACCES)
KEPT = "Nothing was written."


def write_whole(path: Path, data: bytes, *, mode: int = 0o644) -> None:
    """Write a file, in place of one of its name, so that it is there in full or not at all, and on disk on return.

    Raises FormatError when the folder cannot be written or the disk is full; then what was there before is there still,
    and nothing is left beside it.
    """
    _write(path, data, mode, replace=True)


def write_new(path: Path, data: bytes, *, mode: int = 0o644) -> None:
    """Write a file of a name that is not taken, whole or not at all. Raises FormatError, for a name that is taken too."""
    _write(path, data, mode, replace=False)


def make_folder(folder: Path, mode: int = 0o777) -> None:
    """Make a folder, and those that it lies in, where they are missing. Raises FormatError."""
    try:
        folder.mkdir(mode=mode, parents=True, exist_ok=True)
    except FileExistsError:
        raise FormatError(
            "cannot be made: a file of this name is there", concerns=str(folder), remedy="Choose another folder."
        ) from None
    except OSError as error:
        made = cannot(error, "written", str(folder))
        raise FormatError(f"cannot be made: {made.what}", concerns=made.concerns, remedy=made.remedy) from None
    except ValueError:
        raise FormatError("is no name of a folder", concerns=str(folder), remedy="Choose another.") from None


def _write(path: Path, data: bytes, mode: int, *, replace: bool) -> None:
    part = _part(path)
    try:
        _sweep(path)
        handle = _nameless(path.parent, mode)
        if handle is None:
            handle = os.open(part, os.O_CREAT | os.O_EXCL | os.O_WRONLY | os.O_NOFOLLOW | os.O_CLOEXEC, mode)
        try:
            os.fchmod(handle, mode)
            _write_all(handle, data)
            os.fsync(handle)
            if not part.exists():
                _name(handle, part if replace else path)
        finally:
            os.close(handle)
        if replace:
            os.replace(part, path)
        elif part.exists():
            _rename_new(part, path)
        _sync_folder(path.parent)
    except FileExistsError:
        part.unlink(missing_ok=True)
        raise FormatError(
            "a file of this name is there already", concerns=str(path), remedy="Choose another name."
        ) from None
    except OSError as error:
        with suppress(OSError):
            part.unlink(missing_ok=True)
        raise cannot(error, "written", str(path), safe=KEPT) from None
    except ValueError:  # a name with a zero in it
        raise FormatError("is no name of a file", concerns=str(path), remedy="Choose another name.") from None


def _nameless(folder: Path, mode: int) -> int | None:
    """A file without a name: it goes with whoever writes it, a kill included. None where the file system has none."""
    if not Path("/proc/self/fd").is_dir():
        return None
    try:
        return os.open(folder, os.O_TMPFILE | os.O_WRONLY | os.O_CLOEXEC, mode)
    except OSError as error:
        if error.errno in _NO_NAMELESS and folder.is_dir():
            return None
        raise


def _name(handle: int, name: Path) -> None:
    # Only with a folder named does Python follow the link that stands for the open file.
    os.link(f"/proc/self/fd/{handle}", name, src_dir_fd=handle, follow_symlinks=True)


def _rename_new(part: Path, path: Path) -> None:
    """Give a part its name where nothing has it; where there are no hard links, by holding the name first."""
    try:
        os.link(part, path)
    except OSError as error:
        if error.errno not in _NO_LINKS:
            raise
        os.close(os.open(path, os.O_CREAT | os.O_EXCL | os.O_WRONLY | os.O_CLOEXEC))
        os.replace(part, path)
        return
    part.unlink()


def _write_all(handle: int, data: bytes) -> None:
    rest = memoryview(data)
    while rest:
        rest = rest[os.write(handle, rest[: 1 << 24]) :]


def _sync_folder(folder: Path) -> None:
    # Some network folders know no such thing; the file is there by now, and is not unwritten for that.
    with suppress(OSError):
        handle = os.open(folder, os.O_RDONLY | os.O_CLOEXEC)
        try:
            os.fsync(handle)
        finally:
            os.close(handle)


def _part(path: Path) -> Path:
    return path.with_name(f".{path.name[:120]}.{os.getpid()}{PART}")


def _sweep(path: Path) -> None:
    """Take away the parts of this file whose writer was killed."""
    named = re.compile(re.escape(f".{path.name[:120]}.") + r"(\d+)" + re.escape(PART))
    if not os.path.isdir("/proc/self"):
        return  # who lives cannot be told
    with suppress(OSError), os.scandir(path.parent) as entries:
        for entry in entries:
            match = named.fullmatch(entry.name)
            if match and not Path(f"/proc/{match.group(1)}").exists():
                os.unlink(entry.path)


def file_name(title: str) -> str:
    """Letters and digits of a title, lower case, joined by dashes; empty where there are none."""
    return re.sub(r"[^\w]+", "-", title.lower()).strip("-_")[:60].rstrip("-_")


def ascii_name(title: str) -> str:
    """The same in plain letters and digits, for names that every program must read alike."""
    plain = unicodedata.normalize("NFKD", title).encode("ascii", "ignore").decode("ascii")
    return re.sub(r"[^a-z0-9]+", "-", plain.lower()).strip("-")[:40].rstrip("-")
