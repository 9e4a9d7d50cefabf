"""A CAN bus between the processes of this machine: what the simulated unit and the desk are joined by.

Every node is a datagram socket in the folder of its channel; a frame goes to all other nodes there. A node that reads
takes part at its own pace: a sender waits for room as it would for a free bus. One that does not read loses frames, as a
receiver that overruns does, and holds nobody up for longer than `WAIT_S` once. The node of a process that was killed is
taken away by the first that finds nobody behind it.
"""

from __future__ import annotations

import contextlib
import errno
import os
import re
import select
import socket
import stat
import struct
import tempfile
import time
from pathlib import Path
from typing import Any

import can

# Our own form of a frame: identifier, flags, length of the data where none is sent (remote frames), then the data.
HEAD = struct.Struct(">IBB")
EXTENDED, REMOTE, ERROR, FD, SWITCH = 1, 2, 4, 8, 16
WAIT_S = 0.5  # how long a frame waits for room with one node
BUFFER = 1 << 20
_NODE = re.compile(r"[0-9]+-[0-9a-f]{8}")  # how a node names its socket


def bus_folder() -> Path:
    """The folder of all channels, of this user alone. `YARVIC_BUS` names another. Raises CanInitializationError."""
    named = os.environ.get("YARVIC_BUS")
    if named:
        folder = Path(named)
    else:
        runtime = os.environ.get("XDG_RUNTIME_DIR")
        folder = Path(runtime) / "yarvic" if runtime else Path(tempfile.gettempdir()) / f"yarvic-{os.getuid()}"
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        _check_own(os.lstat(folder), folder)
    except OSError as error:
        raise can.CanInitializationError(f"the bus has no folder {folder}: {error.strerror}") from error
    return folder


def _check_own(there: os.stat_result, folder: Path) -> None:
    """Raise CanInitializationError for a folder that another could have put there, or reach into."""
    what = (
        "is a link"
        if stat.S_ISLNK(there.st_mode)
        else "is no folder"
        if not stat.S_ISDIR(there.st_mode)
        else "belongs to another account"
        if there.st_uid != os.getuid()
        else "is open to other accounts"
        if stat.S_IMODE(there.st_mode) & 0o077
        else ""
    )
    if what:
        raise can.CanInitializationError(f"the folder of the bus, {folder}, {what}")


def _open_channel(folder: Path) -> int:
    """The folder of a channel, open, made where it is not there. Raises OSError, CanInitializationError."""
    with contextlib.suppress(FileExistsError):
        os.mkdir(folder, 0o700)
    try:
        place = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
    except OSError as error:
        if error.errno in (errno.ELOOP, errno.ENOTDIR):
            raise can.CanInitializationError(f"the folder of the channel, {folder}, is a link, or none") from None
        raise
    try:
        _check_own(os.fstat(place), folder)
    except BaseException:
        os.close(place)
        raise
    return place


def _own_nodes(place: int) -> list[str]:
    """The sockets of this bus in an open folder: what else lies there is left alone."""
    found = []
    for name in sorted(os.listdir(place)):
        with contextlib.suppress(OSError):
            there = os.lstat(name, dir_fd=place)
            if _NODE.fullmatch(name) and stat.S_ISSOCK(there.st_mode) and there.st_uid == os.getuid():
                found.append(name)
    return found


def sweep() -> None:
    """Take away what killed processes left: sockets that nobody listens on, and channels without any."""
    with contextlib.suppress(can.CanError, OSError):
        folder = bus_folder()
        for channel in folder.iterdir():
            with contextlib.suppress(can.CanError, OSError):
                place = os.open(channel, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
                try:
                    for name in _own_nodes(place):
                        if not _is_heard(place, name):
                            os.unlink(name, dir_fd=place)
                finally:
                    os.close(place)
                channel.rmdir()  # where it is not empty it stays


def _is_heard(place: int, name: str) -> bool:
    with socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM) as asking:
        try:
            asking.connect(f"/proc/self/fd/{place}/{name}")
        except (ConnectionRefusedError, FileNotFoundError):
            return False
    return True


def remove_channel(channel: str) -> None:
    """Take a channel away that nobody needs any more, with what a killed node left there."""
    with contextlib.suppress(can.CanError, OSError):
        folder = bus_folder() / channel
        place = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_NOFOLLOW | os.O_CLOEXEC)
        try:
            for name in _own_nodes(place):
                os.unlink(name, dir_fd=place)
        finally:
            os.close(place)
        folder.rmdir()


class VirtualBus(can.BusABC):
    """A node on a channel. `lost` counts frames that another node had no room for."""

    def __init__(self, channel: str, can_filters: Any = None, **kwargs: Any) -> None:
        if not channel or "/" in channel or channel.startswith("."):
            raise can.CanInitializationError(f"{channel!r} is no name of a channel")
        self.channel_info = f"virtual bus {channel}"
        self._can_protocol = can.CanProtocol.CAN_FD
        self.lost = 0
        sweep()
        self._folder = bus_folder() / channel
        self._own = f"{os.getpid()}-{os.urandom(4).hex()}"
        self._join(channel)
        whole, part = divmod(WAIT_S, 1.0)
        self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_SNDTIMEO, struct.pack("ll", int(whole), int(part * 1e6)))
        self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_SNDBUF, BUFFER)
        self._poll = select.poll()
        self._poll.register(self._socket, select.POLLIN)
        self._looked_ns = -1
        self._others: list[str] = []
        self._full: set[str] = set()  # nodes that did not read within the time
        super().__init__(channel, can_filters, **kwargs)

    def _join(self, channel: str) -> None:
        """Become a node. The last that leaves takes the folder away: then it is made anew."""
        for tries_left in (2, 1, 0):
            made = socket.socket(socket.AF_UNIX, socket.SOCK_DGRAM)
            place = -1
            try:
                place = _open_channel(self._folder)
                # The address of a socket has 107 bytes; by its open folder any will do, however long its name.
                self._place = place
                made.bind(self._address(self._own))
                self._socket = made
                return
            except (OSError, can.CanError) as error:
                made.close()
                if place >= 0:
                    os.close(place)
                if isinstance(error, can.CanError):
                    raise
                if error.errno != errno.ENOENT or not tries_left:
                    raise can.CanInitializationError(f"{channel} cannot have a node: {error.strerror}") from error

    def _address(self, name: str) -> str:
        return f"/proc/self/fd/{self._place}/{name}"

    def send(self, msg: can.Message, timeout: float | None = None) -> None:
        """Send a frame to every other node. Raises CanOperationError when the node is closed."""
        flags = (
            EXTENDED * msg.is_extended_id
            | REMOTE * msg.is_remote_frame
            | ERROR * msg.is_error_frame
            | FD * msg.is_fd
            | SWITCH * msg.bitrate_switch
        )
        frame = HEAD.pack(msg.arbitration_id, flags, msg.dlc if msg.is_remote_frame else 0) + bytes(msg.data)
        for other in self._nodes():
            self._to(other, frame)

    def _nodes(self) -> list[str]:
        """The other nodes; the folder is read again only when it has changed."""
        try:
            changed = os.stat(self._place).st_mtime_ns
            if changed != self._looked_ns:
                self._others = [self._address(n) for n in _own_nodes(self._place) if n != self._own]
                self._looked_ns = changed
        except OSError as error:
            raise can.CanOperationError(f"the channel is gone: {error.strerror}") from error
        return self._others

    def _to(self, other: str, frame: bytes) -> None:
        try:
            self._socket.sendto(frame, socket.MSG_DONTWAIT if other in self._full else 0, other)
            self._full.discard(other)
        except BlockingIOError:
            self._full.add(other)
            self.lost += 1
        except (ConnectionRefusedError, FileNotFoundError):
            # Whoever that was is gone.
            with contextlib.suppress(OSError):
                os.unlink(other)
            self._looked_ns = -1
        except OSError as error:
            raise can.CanOperationError(f"a frame could not be sent: {error.strerror}") from error

    def _recv_internal(self, timeout: float | None) -> tuple[can.Message | None, bool]:
        try:
            frame = self._socket.recv(256, socket.MSG_DONTWAIT)
        except BlockingIOError:
            if timeout == 0 or not self._poll.poll(None if timeout is None else timeout * 1000.0):
                return None, False
            try:
                frame = self._socket.recv(256, socket.MSG_DONTWAIT)
            except BlockingIOError:
                return None, False
        except OSError as error:
            raise can.CanOperationError(f"the node is closed: {error.strerror}") from error
        return _frame(frame), False

    def shutdown(self) -> None:
        """Leave the channel."""
        if not self._is_shutdown:
            super().shutdown()
            self._socket.close()
            with contextlib.suppress(OSError):
                os.unlink(self._own, dir_fd=self._place)
            os.close(self._place)
            with contextlib.suppress(OSError):
                self._folder.rmdir()  # where others are it stays

    def fileno(self) -> int:
        """The socket, for whoever waits for several."""
        return self._socket.fileno()

    @staticmethod
    def _detect_available_configs() -> list[Any]:
        return []


def _frame(data: bytes) -> can.Message | None:
    """A frame as it came; None for what is none."""
    if len(data) < HEAD.size or len(data) > HEAD.size + 64:
        return None
    identifier, flags, length = HEAD.unpack_from(data)
    body = data[HEAD.size :]
    return can.Message(
        timestamp=time.time(),
        arbitration_id=identifier,
        is_extended_id=bool(flags & EXTENDED),
        is_remote_frame=bool(flags & REMOTE),
        is_error_frame=bool(flags & ERROR),
        is_fd=bool(flags & FD),
        bitrate_switch=bool(flags & SWITCH),
        dlc=length if flags & REMOTE else len(body),
        data=None if flags & REMOTE else body,
    )
