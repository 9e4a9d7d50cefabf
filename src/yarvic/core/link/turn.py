"""Whose turn it is to talk over a bus: one conversation at a time, of all windows that this account has open."""

from __future__ import annotations

import fcntl
import hashlib
import os
import time
from collections import Counter, defaultdict
from collections.abc import Iterator
from contextlib import contextmanager
from threading import RLock

import can

from yarvic.core.errors import LinkError
from yarvic.core.link.virtual_bus import bus_folder

# Another window that looks has done so within a second; one that writes takes longer, and is not waited for. Our choice.
WAIT_S, STEP_S = 3.0, 0.05
_turns: defaultdict[str, RLock] = defaultdict(RLock)
_depth: Counter[str] = Counter()


@contextmanager
def turn(bus: str, wait_s: float = WAIT_S) -> Iterator[None]:
    """Hold the right to talk over a bus: what this process asks twice is one (both units of a pair).

    Raises LinkError where another process has it for longer than a time.
    """
    with _turns[bus]:
        if _depth[bus]:
            yield
            return
        held = _held(bus, wait_s)
        _depth[bus] += 1
        try:
            yield
        finally:
            _depth[bus] -= 1
            os.close(held)


def _held(bus: str, wait_s: float) -> int:
    """The lock, open: the system lets go of it when its process ends, however that is."""
    name = hashlib.sha256(bus.encode("utf-8", "surrogateescape")).hexdigest()[:16]
    try:
        file = os.open(bus_folder() / f"{name}.turn", os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)
    except (OSError, can.CanError) as error:
        raise LinkError(
            "Yarvic cannot tell whether another window is using this bus",
            concerns=bus,
            remedy="Let this account write in its folder for running programs (XDG_RUNTIME_DIR).",
            details=f"{type(error).__name__}: {error}",
        ) from error
    end = time.monotonic() + wait_s
    while True:
        try:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            return file
        except BlockingIOError:
            if time.monotonic() > end:
                os.close(file)
                raise LinkError(
                    "another Yarvic window is using this bus",
                    concerns=bus,
                    remedy="Wait until it has finished, or close it. Nothing was changed.",
                ) from None
        except OSError as error:
            os.close(file)
            raise LinkError(
                "Yarvic cannot tell whether another window is using this bus",
                concerns=bus,
                remedy="Set XDG_RUNTIME_DIR to a folder on a local disk.",
                details=str(error),
            ) from error
        time.sleep(STEP_S)
