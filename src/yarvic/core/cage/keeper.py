"""The process that keeps a cage ready: it loads what reads files, and gives each file a process of its own by a fork.

It never looks into a file itself. A request is one message with three open files: what is to be read, where the answer goes,
and a socket on which the outcome is said; when the other end of that is closed, the process is ended.
"""

from __future__ import annotations

import gc
import hashlib
import importlib
import json
import os
import selectors
import signal
import socket
import sys
import tempfile
import threading
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from yarvic.core.cage import wire
from yarvic.core.cage.bounds import Bounds, confine
from yarvic.core.cage.seal import seal
from yarvic.core.errors import YarvicError

MOST_MESSAGE = 1 << 18
FILES = 3
FAILED, TOO_MUCH = 1, 3  # how a process ends that could not answer
DONE = {"status": 0, "memory_kib": 0}
IDLE_S = 0.03  # so long nobody asks before a process is made ready: one file right behind another gets a new one
SPARES = 2  # processes that wait for a file
MOST_FILES = 1 << 16  # past this number a process has none


@dataclass(frozen=True)
class Refusal:
    """An error of ours in its parts, and errors from below that nobody foresaw (source, kind, trace)."""

    kind: str
    what: str
    concerns: str
    remedy: str
    details: str
    defects: tuple[tuple[str, str, str], ...]


def main(control: str) -> None:
    """Serve until the other end of the control socket is closed."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    for name in ("TemporaryFile", "NamedTemporaryFile"):  # before libraries look for them
        setattr(tempfile, name, _in_memory)
    _Keeper(socket.socket(fileno=int(control))).serve()


class _Keeper:
    """What is loaded, the process that waits for a file, and those that read one."""

    def __init__(self, control: socket.socket) -> None:
        self.control = control
        self.warm, self.later = "", list[str]()
        self.spares: list[tuple[int, socket.socket]] = []  # processes that wait, and where each is given its file
        self.waiting = selectors.DefaultSelector()
        self.running: dict[int, tuple[int, socket.socket]] = {}  # by process: its own file, and where its end is said

    def serve(self) -> None:
        """Give each request a process, until nobody is left who asks."""
        wanted = json.loads(self.control.recv(MOST_MESSAGE))
        self.warm, self.later = wanted["warm"], wanted["later"]
        for name in wanted["first"]:
            importlib.import_module(name)
        self.waiting.register(self.control, selectors.EVENT_READ, None)
        while True:
            for key, _ in self.waiting.select(0.0 if self._idle() else None):
                if key.data is None and not self._begin():
                    return self._end_all()
                if key.data is not None and key.data in self.running:
                    self._ended(key.data, cancelled=key.fileobj is self.running[key.data][1])
            if self._idle() and (self.later or not self.waiting.select(IDLE_S)):
                self._prepare()

    def _idle(self) -> bool:
        """Whether there is something to make ready, and nothing else to do."""
        return not self.running and (len(self.spares) < SPARES or bool(self.later))

    def _prepare(self) -> None:
        """What only some files need, while nothing is read; then a process that waits."""
        if self.later:
            # One that is not installed is said when it is needed.
            with suppress(ImportError):
                importlib.import_module(self.later.pop(0))
            return
        gc.collect()
        gc.freeze()
        ours, theirs = socket.socketpair(socket.AF_UNIX, socket.SOCK_SEQPACKET)
        process = os.fork()
        if process == 0:
            _wait(theirs, self.warm)
        theirs.close()
        self.spares.append((process, ours))

    def _drop(self, process: int, given: socket.socket) -> None:
        given.close()
        os.kill(process, signal.SIGKILL)
        os.waitpid(process, 0)

    def _begin(self) -> bool:
        """Hand a request over to the process that waits, or to a new one. False where nobody asks any more."""
        message, files, _, _ = socket.recv_fds(self.control, MOST_MESSAGE, FILES)
        if not message:
            return False
        said = socket.socket(fileno=files[2])
        process = self._given(message, files)
        if process is None:
            process = os.fork()
            if process == 0:
                _close_all_but(*files)
                _run(message, *files)
        os.close(files[0])
        os.close(files[1])
        own = os.pidfd_open(process)
        self.running[process] = own, said
        self.waiting.register(own, selectors.EVENT_READ, process)
        self.waiting.register(said, selectors.EVENT_READ, process)
        return True

    def _given(self, message: bytes, files: list[int]) -> int | None:
        """A process that waited, with the request; None where there is none."""
        while self.spares:
            process, given = self.spares.pop(0)
            try:
                socket.send_fds(given, [message], files)
            except OSError:
                self._drop(process, given)
                continue
            given.close()
            return process
        return None

    def _ended(self, process: int, *, cancelled: bool) -> None:
        """A process has come to its end, or nobody waits for it any more."""
        own, said = self.running.pop(process)
        if cancelled:
            signal.pidfd_send_signal(own, signal.SIGKILL)
        _, status, used = os.wait4(process, 0)
        self.waiting.unregister(own)
        self.waiting.unregister(said)
        os.close(own)
        outcome = {"status": os.waitstatus_to_exitcode(status), "memory_kib": used.ru_maxrss}
        with suppress(OSError):  # where nobody waits
            said.send(json.dumps(outcome).encode("ascii"))
        said.close()

    def _end_all(self) -> None:
        for spare in self.spares:
            self._drop(*spare)
        for process in list(self.running):
            self._ended(process, cancelled=True)


def _wait(given: socket.socket, warm: str) -> None:
    """In a process beforehand: load and start what every file needs, and wait for one. It never comes back."""
    try:
        _close_all_but(given.fileno())
        module, _, name = warm.partition(":")
        if name:
            getattr(importlib.import_module(module), name)()
        message, files, _, _ = socket.recv_fds(given, MOST_MESSAGE, FILES)
        given.close()
        if message:
            _run(message, *files)
    finally:
        os._exit(1)


def _close_all_but(*kept: int) -> None:
    """Close all files of this process but the standard ones, which lead nowhere, and these."""
    first = 3
    for number in (*sorted(kept), MOST_FILES):
        os.closerange(first, number)
        first = number + 1


def _run(message: bytes, source: int, answer: int, said: int) -> None:
    """In a process that has no other files: read, answer, say so, end. It never comes back."""
    code = FAILED
    try:
        request = json.loads(message)
        confine(Bounds(**request["bounds"]))
        seal()
        wire.write(answer, _answer(request, source))
        os.write(said, json.dumps(DONE).encode("ascii"))  # its end takes a while where it has much memory
        code = 0
    except (MemoryError, OSError):  # the answer is longer than it may be
        code = TOO_MUCH
    finally:
        os._exit(code)


def _answer(request: dict[str, Any], source: int) -> tuple[Any, str, int, Refusal | None]:
    """What the reader makes of the file, with the sum (SHA-256, FIPS 180-4) of the bytes that it was made of; or why it
    refuses it.
    """
    from yarvic.core import reading

    try:
        with reading.understood(request["source"]):
            module, _, name = request["reader"].partition(":")
            read = getattr(importlib.import_module(module), name).inside
            with os.fdopen(source, "rb", closefd=False) as file:
                data = file.read()
            digest = hashlib.sha256()
            summing = threading.Thread(target=digest.update, args=(data,))
            if request["summed"]:
                summing.start()
            try:
                value = read(data, request["source"])
            except MemoryError:
                os._exit(TOO_MUCH)
            if request["summed"]:
                summing.join()
            return value, digest.hexdigest() if request["summed"] else "", len(data), None
    except YarvicError as error:
        defects = tuple((d.source, d.kind, d.trace) for d in reading.DEFECTS)
        parts = (error.what, error.concerns, error.remedy, error.details)
        return None, "", 0, Refusal(type(error).__name__, *parts, defects)


def _in_memory(*_: object, **__: object) -> Any:
    """A file that lies in no folder."""
    return os.fdopen(os.memfd_create("yarvic"), "w+b")


if __name__ == "__main__":
    main(*sys.argv[1:])
