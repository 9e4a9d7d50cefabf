"""Who may write a job: a lock on the file itself, whatever name it is opened by."""

from __future__ import annotations

import fcntl
import os
from collections import Counter
from contextlib import suppress
from pathlib import Path
from threading import RLock

from yarvic.core.errors import JobError, JobInUseError, JobNotWritableError
from yarvic.core.reading import cannot, looked_up

Inode = tuple[int, int]
# File systems whose locks another computer may not see, or that do not tell them apart from SQLite's own.
NETWORK = (
    "nfs",
    "nfs4",
    "cifs",
    "smb3",
    "smbfs",
    "9p",
    "afs",
    "ceph",
    "glusterfs",
    "fuse.sshfs",
    "fuse.rclone",
    "davfs",
)
MOUNTS = Path("/proc/self/mountinfo")
# SQLite's own locks are lost as soon as a process closes any handle of the file: while one of its connections is open,
# what else was opened stays so.
_connections: Counter[Inode] = Counter()
_parked: dict[Inode, list[int]] = {}
_held: set[Inode] = set()  # files that this process has the right to write
_turn = RLock()  # over these three: a file is checked on one thread while another closes it


def inode(path: Path) -> Inode:
    """Which file a name leads to. Raises JobError when it leads nowhere."""
    found = looked_up(path, JobError)
    return found.st_dev, found.st_ino


def is_connected(file: Inode) -> bool:
    """Whether this process has a connection to a file."""
    return _connections[file] > 0


def is_job_open(path: Path) -> bool:
    """Whether this process has a connection to the file of this name; False where the name leads nowhere."""
    try:
        return is_connected(inode(path))
    except JobError:
        return False


def is_held(file: Inode) -> bool:
    """Whether this process has the right to write a file."""
    return file in _held


def connected(file: Inode) -> None:
    """A connection to a file was opened."""
    with _turn:
        _connections[file] += 1


def disconnected(file: Inode) -> None:
    """A connection to a file was closed: with the last one, so is what was kept open for its sake."""
    with _turn:
        _connections[file] -= 1
        if _connections[file] <= 0:
            del _connections[file]
            for handle in _parked.pop(file, []):
                os.close(handle)


def _close(handle: int, file: Inode) -> None:
    with _turn:
        if is_connected(file):
            _parked.setdefault(file, []).append(handle)
        else:
            os.close(handle)


def network_kind(path: Path) -> str:
    """The kind of network folder that a file lies in; empty for a disk of this machine, or where nobody tells."""
    try:
        real = os.path.realpath(path)
        lines = MOUNTS.read_text("utf-8").splitlines()
    except (OSError, UnicodeDecodeError):
        return ""
    best, kind = "", ""
    for line in lines:
        left, _, right = line.partition(" - ")
        place, what = left.split()[4].replace("\\040", " "), right.split()[0]
        within = place == "/" or real == place or real.startswith(place + "/")
        if within and len(place) >= len(best):
            best, kind = place, what
    return kind if kind in NETWORK else ""


def cautions(path: Path) -> list[JobError]:
    """What is to be known of a place before a job is written there."""
    found = []
    kind = network_kind(path)
    if kind:
        found.append(
            JobError(
                f"it lies in a network folder ({kind}): whether it is open on another computer cannot be told",
                concerns=str(path),
                remedy="Let one person write it at a time, or work on a copy on this machine.",
            )
        )
    with suppress(OSError):
        names = os.stat(path).st_nlink
        if names > 1:
            found.append(
                JobError(
                    f"the file has {names} names (hard links): what a crash leaves half done is put right only under the"
                    " name that it was opened by",
                    concerns=str(path),
                    remedy="Always open it by this name, or work on a copy.",
                )
            )
    return found


class WriteLock:
    """The right to write a job: a lock of the system on the file, freed when the process ends, however it ends.

    Raises JobInUseError when another process, or this one, has it, JobNotWritableError when file or folder may not be
    written.
    """

    def __init__(self, path: Path) -> None:
        self._inode = inode(path)
        self._handle: int | None = None
        if is_held(self._inode):
            raise _in_use(path, " (this program)")
        real = Path(os.path.realpath(path))
        for place in (real, real.parent):
            if not os.access(place, os.W_OK):
                what = "the file" if place == real else "the folder"
                raise JobNotWritableError(
                    f"{what} may not be written by you",
                    concerns=str(place),
                    remedy="Open the job read only, or copy it to a folder of yours.",
                )
        # In a network folder this lock would be taken for one of SQLite's: there it is on a small file beside it.
        aside = bool(network_kind(real))
        name = real.with_name(f".{real.name}.lock") if aside else real
        try:
            flags = os.O_RDWR | os.O_CLOEXEC | (os.O_CREAT if aside else 0)
            self._handle = os.open(name, flags, 0o644)
            fcntl.flock(self._handle, fcntl.LOCK_EX | fcntl.LOCK_NB)
        except BlockingIOError:
            self.release()
            raise _in_use(path, holders(path)) from None
        except OSError as error:
            self.release()
            remedy = "Open the job read only, or copy it to a folder of yours."
            raise JobNotWritableError(cannot(error, "written", "").what, concerns=str(name), remedy=remedy) from None
        if not aside:
            # What was locked is what was opened, whatever the name has come to lead to since.
            opened = os.fstat(self._handle)
            self._inode = opened.st_dev, opened.st_ino
        _held.add(self._inode)

    def release(self) -> None:
        """Give the right back."""
        handle, self._handle = self._handle, None
        if handle is not None:
            _held.discard(self._inode)
            with suppress(OSError):
                fcntl.flock(handle, fcntl.LOCK_UN)
            _close(handle, self._inode)


def _in_use(path: Path, by: str) -> JobInUseError:
    return JobInUseError(
        f"the job is open in another window{by}",
        concerns=str(path),
        remedy="Close it there, or open it here read only.",
    )


def holders(path: Path) -> str:
    """Which other processes hold locks on a file, in words; empty where the system does not tell."""
    try:
        wanted = path.stat().st_ino
        lines = Path("/proc/locks").read_text("ascii").splitlines()
    except (OSError, UnicodeDecodeError, ValueError):
        return ""
    found = []
    for line in lines:
        fields = line.replace("->", "").split()
        if len(fields) >= 6 and fields[5].rpartition(":")[2] == str(wanted) and fields[4] != str(os.getpid()):
            found.append(fields[4])
    names = [f"process {pid}{_program(pid)}" for pid in dict.fromkeys(found)]
    return f" ({', '.join(names)})" if names else ""


def _program(pid: str) -> str:
    try:
        return f", {Path(f'/proc/{pid}/comm').read_text('utf-8').strip()}"
    except (OSError, UnicodeDecodeError):
        return ""
