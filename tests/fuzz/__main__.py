"""`python -m tests.fuzz SECONDS [READER...]`: damage files of every format until the time is over, and keep what broke.

Each reader has a process of its own: a hang is ended, memory is measured, and a crash does not end the rest.
"""

import hashlib
import random
import resource
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from .campaign import FOUND, MOST_KIB, TEN_SECONDS, one
from .mutate import mutated
from .targets import every_reader, targets

ROUND = 400  # damaged files in one process


def batch(key: str, seed: int, count: int) -> int:
    """Damage files of one reader; every input that broke it is kept and named."""
    every_reader()
    target, broken = targets()[key], 0
    begun = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss
    with tempfile.TemporaryDirectory() as folder:
        for n in range(count):
            r = random.Random(f"{key} {seed} {n}")
            data = mutated(r, r.choice(target.seeds), r.choice(target.seeds))
            fault = one(key, data, Path(folder))
            grown = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - begun
            if grown > MOST_KIB:
                fault, begun = fault or f"took {grown / 1024:.0f} MiB", begun + grown
            if fault:
                broken += 1
                kept = FOUND / key.replace(" ", "-") / hashlib.sha256(data).hexdigest()[:16]
                kept.parent.mkdir(parents=True, exist_ok=True)
                kept.write_bytes(data)
                print(f"{key}: {fault}\n  kept as {kept}", flush=True)
    return broken


def main() -> int:
    """All readers in turn, until the time is over."""
    if len(sys.argv) > 2 and sys.argv[1] == "--batch":
        return batch(sys.argv[2], int(sys.argv[3]), int(sys.argv[4]))
    end = time.monotonic() + float(sys.argv[1] if len(sys.argv) > 1 else 3600)
    keys = sys.argv[2:] or sorted(every_reader())
    seed, tried, broken = int(time.time()), 0, 0
    while time.monotonic() < end:
        for key in keys:
            command = [sys.executable, "-m", "tests.fuzz", "--batch", key, str(seed), str(ROUND)]
            try:
                broken += subprocess.run(command, check=False, timeout=TEN_SECONDS * ROUND).returncode
            except subprocess.TimeoutExpired:
                broken += 1
                print(f"{key}: seed {seed} came to no end")
            tried += ROUND
            if time.monotonic() > end:
                break
        seed += 1
    print(f"{tried:,} damaged files, {broken} broke their reader")
    return 1 if broken else 0


if __name__ == "__main__":
    sys.exit(main())
