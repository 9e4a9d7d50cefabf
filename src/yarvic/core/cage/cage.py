"""Our side of the cage: a file that is open is read by a process of its own, and what goes wrong there is our error."""

from __future__ import annotations

import json
import os
import select
import signal
import socket
import subprocess
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import asdict, dataclass
from threading import Lock
from typing import Any

from yarvic.core import children, errors
from yarvic.core.cage import wire
from yarvic.core.cage.bounds import MIB, Bounds
from yarvic.core.cage.keeper import MOST_MESSAGE, TOO_MUCH, Refusal
from yarvic.core.errors import Cancelled, FormatError, YarvicError

LOOK_S = 0.05  # so often it is looked whether somebody has cancelled
CLOSE_S = 1.0  # so long it has to end by itself
TRIES = 3
_NO_MEMORY = (signal.SIGABRT, signal.SIGKILL)


@dataclass(frozen=True)
class Read:
    """What a file holds, with the count of the bytes that were read, and their SHA-256 where it was wanted."""

    value: Any
    sha256: str
    size: int


class Refused(Exception):
    """The reader's own error, with errors from below that nobody foresaw."""

    def __init__(self, error: YarvicError, defects: tuple[tuple[str, str, str], ...]) -> None:
        super().__init__(str(error))
        self.error, self.defects = error, defects


class Cage:
    """Keeps a process ready that gives each file one of its own.

    `first` are the modules that it loads before the first file, `later` those that only some files need; `warm`
    ("module:function") is called in a process before it waits for its file.
    """

    def __init__(self, first: tuple[str, ...], later: tuple[str, ...] = (), warm: str = "") -> None:
        self._modules = {"first": first, "later": later, "warm": warm}
        self._turn = Lock()
        self._keeper: subprocess.Popen[bytes] | None = None
        self._control: socket.socket | None = None

    def start(self) -> None:
        """Make it ready beforehand; it does so by itself with the first file."""
        with self._turn:
            if self._keeper is None or self._keeper.poll() is not None:
                self._start()

    def close(self) -> None:
        """End it, with all that it reads."""
        with self._turn:
            keeper, self._keeper = self._keeper, None
            if self._control is not None:
                self._control.close()
                self._control = None
        if keeper is not None:
            try:
                keeper.wait(CLOSE_S)
            except subprocess.TimeoutExpired:
                keeper.kill()
                keeper.wait()

    def read(
        self,
        reader: str,
        file: int,
        source: str,
        expected: Any,
        bounds: Bounds,
        cancelled: Callable[[], bool] = lambda: False,
        summed: bool = False,
    ) -> Read:
        """What `reader` ("module:function") makes of an open file, of the type that is expected; with its sum if wanted.

        Raises Refused with the reader's own error, FormatError where its process failed, Cancelled.
        """
        request = {"reader": reader, "source": source, "bounds": asdict(bounds), "summed": summed}
        message = json.dumps(request).encode("ascii")
        if len(message) > MOST_MESSAGE:
            raise FormatError(
                "has a name that is too long", concerns=source, remedy="Give it a shorter name or path."
            )
        answer = os.memfd_create("yarvic", os.MFD_CLOEXEC | os.MFD_ALLOW_SEALING)
        try:
            outcome = self._asked(message, [file, answer], source, bounds, cancelled)
            return _understood(outcome, answer, source, expected, bounds)
        finally:
            os.close(answer)

    def _start(self) -> None:
        if self._control is not None:
            self._control.close()
        self._control, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        with theirs:
            self._keeper = subprocess.Popen(
                children.command("yarvic.core.cage.keeper", str(theirs.fileno())),
                stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
                pass_fds=[theirs.fileno()], cwd="/", start_new_session=True,
                env=children.environment(OPENBLAS_NUM_THREADS="1", PYTHONWARNINGS="ignore"),
            )  # fmt: skip
        self._control.send(json.dumps(self._modules).encode("ascii"))

    def _asked(
        self, message: bytes, files: list[int], source: str, bounds: Bounds, cancelled: Callable[[], bool]
    ) -> dict[str, int]:
        """How the process ended that was given the files."""
        for _ in range(TRIES):
            mine, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
            with mine:
                with theirs, suppress(OSError):
                    self.start()
                    with self._turn:
                        if self._control is not None:
                            socket.send_fds(self._control, [message], [*files, theirs.fileno()])
                outcome = _outcome(mine, source, bounds, cancelled)
            if outcome is not None:
                return outcome
            self.close()  # it has gone, or is about to
        raise FormatError(
            "cannot be read: the process that reads files does not start",
            concerns=source,
            remedy="Close other programs and do it again; if it stays, install Yarvic anew.",
        )


def _outcome(
    mine: socket.socket, source: str, bounds: Bounds, cancelled: Callable[[], bool]
) -> dict[str, int] | None:
    """What is said of a process; None where the keeper has gone. It is ended as soon as `mine` is closed."""
    end = time.monotonic() + bounds.clock_s
    while not select.select([mine], [], [], LOOK_S)[0]:
        if cancelled():
            raise Cancelled(f"reading {source} was cancelled")
        if time.monotonic() > end:
            raise _too_long(source, bounds.clock_s)
    try:
        said = mine.recv(MOST_MESSAGE)
        return json.loads(said) if said else None
    except (OSError, ValueError):
        return None


def _understood(outcome: dict[str, int], answer: int, source: str, expected: Any, bounds: Bounds) -> Read:
    status = outcome["status"]
    if status == -signal.SIGXCPU:
        raise _too_long(source, bounds.processor_s)
    no_memory = status in (-s for s in _NO_MEMORY) and outcome["memory_kib"] * 1024 > bounds.memory_bytes / 2
    if no_memory or status == TOO_MUCH:
        raise _too_much(source, bounds)
    if status != 0:
        raise _failed(source, signal.Signals(-status).name if status < 0 else "")
    try:
        value, sha256, size, refusal = wire.read(answer, tuple[expected | None, str, int, Refusal | None])
    except wire.NoAnswer as error:
        raise _failed(source, str(error)) from None
    if refusal is not None:
        kind = getattr(errors, refusal.kind, FormatError)
        parts = {"concerns": refusal.concerns, "remedy": refusal.remedy, "details": refusal.details}
        raise Refused(
            (kind if issubclass(kind, YarvicError) else FormatError)(refusal.what, **parts), refusal.defects
        )
    return Read(value, sha256, size)


def _failed(source: str, details: str) -> FormatError:
    return FormatError(
        "cannot be understood: its reader failed",
        concerns=source,
        remedy="It may be damaged, or made to harm. Export it again, or as CSV.",
        details=details,
    )


def _too_long(source: str, seconds: float) -> FormatError:
    return FormatError(
        f"was not read within {seconds:g} s, which is far more than a file of its size takes",
        concerns=source,
        remedy="It may be damaged, or made to harm. Export it again, or as CSV.",
    )


def _too_much(source: str, bounds: Bounds) -> FormatError:
    return FormatError(
        f"takes more than {bounds.memory_bytes / MIB:,.0f} MiB of memory, which is far more than a file of its size needs",
        concerns=source,
        remedy="It may be damaged, or made to harm. Export it again, or as CSV.",
    )
