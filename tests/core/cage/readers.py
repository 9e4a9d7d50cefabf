"""Readers that misbehave as a damaged or hostile file may make a library misbehave."""

import ctypes
import os
import socket
import subprocess
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Literal

import numpy as np

from yarvic.core.errors import FormatError
from yarvic.core.physics import FloatArray


@dataclass
class Kept:
    name: str
    numbers: FloatArray
    beside: FloatArray | None = None
    words: tuple[str, ...] = ()
    by_name: dict[str, float] = field(default_factory=dict)
    kind: Literal["one", "two"] = "one"
    data: bytes = b""


class Reads:
    """A function as the cage calls it."""

    def __init__(self, inside):
        self.inside = inside


@Reads
def whole(data, source):
    numbers = np.frombuffer(data[: len(data) // 8 * 8], dtype=np.uint8).astype(np.float64)
    return [Kept(source, numbers, numbers[::-1].reshape(1, -1), ("a", "ß"), {"x": 1.5, "y": 2}, "two", b"\0\xff")]


@Reads
def refuses(data, source):
    raise FormatError("is not what it says", concerns=f"{source}, line 3", remedy="Write it again.", details="why")


@Reads
def unforeseen(data, source):
    return {}["content of the file"]


@Reads
def outside_memory(data, source):
    return ctypes.string_at(8)


@Reads
def frees_twice(data, source):
    os.abort()


@Reads
def endless(data, source):
    while True:
        pass


@Reads
def asleep(data, source):
    time.sleep(600.0)


@Reads
def greedy(data, source):
    return [bytes(1 << 28) for _ in range(1000)]


@Reads
def talks(data, source):
    return [np.zeros(1 << 20)] * 100


@Reads
def talks_without_end(data, source):
    return "x" * (70 << 20)


@Reads
def another_type(data, source):
    return [1, 2, 3]


@Reads
def leaves(data, source):
    os._exit(0)


def _refused(act):
    try:
        act()
    except OSError as error:
        return type(error).__name__
    return "allowed"


@Reads
def reaches_out(data, source):
    """What each act that a reader has no business with comes to."""
    own = Path(__file__)
    acts = {
        "network": lambda: socket.create_connection(("127.0.0.1", 9), 1.0),
        "listening": lambda: socket.socket(socket.AF_UNIX),
        "program": lambda: subprocess.run(["true"], check=False),
        "fork": os.fork,
        "writing": lambda: (own.parent / "left behind").write_text("x"),
        "appending": lambda: os.open(own, os.O_WRONLY | os.O_APPEND),
        "removing": lambda: os.unlink(own.parent / "none"),
        "renaming": lambda: os.rename(own, own.parent / "renamed"),
        "killing": lambda: os.kill(os.getppid(), 0),
        "mode": lambda: os.chmod(own, 0o600),
    }
    found = [f"{name}: {_refused(act)}" for name, act in acts.items()]
    open_files = sorted(int(n) for n in os.listdir("/proc/self/fd"))
    found.append(f"files: {sum(os.path.exists(f'/proc/self/fd/{n}') for n in open_files if n > 2)}")
    found.append("environment: " + " ".join(sorted(os.environ)))
    found.append(f"folder: {os.getcwd()}")
    return found


@Reads
def slow_letter(data, source):
    time.sleep(0.3)
    return [data.decode()]
