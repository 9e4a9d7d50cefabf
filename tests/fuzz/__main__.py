"""`python -m tests.fuzz SECONDS [READER...]`: damage files of every format until the time is over, and keep what broke.

At least `LEAST` files are tried, however little time was left. Each reader has a process of its own: a hang is ended,
memory is measured, and a crash does not end the rest.
"""

import hashlib
import os
import random
import resource
import subprocess
import sys
import tempfile
import time
from concurrent.futures import ThreadPoolExecutor
from itertools import count, islice
from pathlib import Path

from .campaign import ACCEPTED, FOUND, MOST_KIB, TEN_SECONDS, one
from .mutate import mutated
from .targets import every_reader, targets

ROUND = 400  # damaged files in one process
LEAST = 100_000  # damaged files of a whole run


def batch(key: str, seed: int, count: int) -> None:
    """Damage files of one reader; every input that broke it is kept and named. Ends with what came of them."""
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
    print(f"{ACCEPTED[key]} {broken}")


def apart(key: str, seed: int) -> tuple[str, int, int]:
    """A batch in a process of its own: the reader, how many files it accepted, and how many broke it."""
    command = [sys.executable, "-m", "tests.fuzz", "--batch", key, str(seed), str(ROUND)]
    try:
        said = subprocess.run(command, check=False, timeout=TEN_SECONDS * ROUND, stdout=subprocess.PIPE, text=True)
    except subprocess.TimeoutExpired:
        print(f"{key}: seed {seed} came to no end", flush=True)
        return key, 0, 1
    *before, last = said.stdout.splitlines() or [""]
    if before:
        print("\n".join(before), flush=True)
    if said.returncode or len(last.split()) != 2:
        print(f"{key}: seed {seed} ended with {said.returncode}: {last}", flush=True)
        return key, 0, 1
    accepted, broken = last.split()
    return key, int(accepted), int(broken)


def main() -> int:
    """All readers in turn, on all cores, until the time is over."""
    if len(sys.argv) > 2 and sys.argv[1] == "--batch":
        batch(sys.argv[2], int(sys.argv[3]), int(sys.argv[4]))
        return 0
    end = time.monotonic() + float(sys.argv[1] if len(sys.argv) > 1 else 3600)
    keys = sys.argv[2:] or sorted(every_reader())
    tried, accepted, broken = dict.fromkeys(keys, 0), dict.fromkeys(keys, 0), 0
    work = ((key, seed) for seed in count(int(time.time())) for key in keys)
    cores = len(os.sched_getaffinity(0))
    with ThreadPoolExecutor(cores) as pool:
        while time.monotonic() < end or sum(tried.values()) < LEAST:
            for key, good, bad in pool.map(lambda of: apart(*of), islice(work, cores * 2)):
                tried[key] += ROUND
                accepted[key] += good
                broken += bad
    for key in keys:
        print(f"{key}: {tried[key]:,} damaged files, {accepted[key]:,} accepted")
    print(f"{sum(tried.values()):,} damaged files, {broken} broke their reader")
    return 1 if broken else 0


if __name__ == "__main__":
    sys.exit(main())
