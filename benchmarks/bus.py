"""The virtual bus: 512 KiB erased, written, read back and summed by a unit in a process of its own, against bare frames."""

from __future__ import annotations

import os
import signal
import tempfile
import time
import zlib
from pathlib import Path

import numpy as np

from benchmarks.measuring import median, row

SIZE, RUNS, FRAMES = 512 * 1024, 5, 4000
LEAST_KIB_S = 300.0
FD_FRAME = 64
MOST_SHARE = 0.17  # of the time that all takes, for an eighth: an eighth and the way into programming


def bus() -> None:
    """Both rates in one run."""
    with tempfile.TemporaryDirectory() as folder:
        os.environ["YARVIC_BUS"] = folder
        echo = _echo_kib_s()
        rate = _written_kib_s(Path(folder) / "unit")
        part, all_ = _writing_s(Path(folder), 8), _writing_s(Path(folder), 1)
    row(
        "512 KiB written and verified over the bus",
        f"{rate:.0f} KiB/s",
        f"echo {echo:.0f} KiB/s",
        rate / echo,
        f"at least {LEAST_KIB_S:.0f} KiB/s",
        rate >= LEAST_KIB_S,
    )
    row(
        "an eighth of 512 KiB differs: its writing",
        f"{part * 1e3:.0f} ms",
        f"all of it {all_ * 1e3:.0f} ms",
        part / all_,
        f"at most {MOST_SHARE:g}",
        part / all_ <= MOST_SHARE,
    )


def _writing_s(folder: Path, share: int) -> float:
    """How long the whole sequence writes, from unlocked to its last sector, where one sector in `share` differs."""
    from yarvic.bench.control_unit.facts import UnitFacts
    from yarvic.bench.control_unit.process import new_unit, start_unit
    from yarvic.core.calibration.layout import Layout
    from yarvic.core.link.buses import BusChoice, open_bus
    from yarvic.core.link.diagnostics import Diagnostics
    from yarvic.core.link.sectors import Step
    from yarvic.core.link.sequence import Flashing
    from yarvic.core.link.vault import Vault

    layout = Layout(family="bench", byte_order="big", size=SIZE)
    facts, random, at = UnitFacts(), np.random.default_rng(2), {}
    before = random.bytes(SIZE)
    image = bytearray(before)
    for start in range(0, SIZE, share * facts.sector):
        image[start] ^= 0xFF
    new_unit(folder / f"unit-{share}", layout, before, facts)
    unit = start_unit(folder / f"unit-{share}", f"part-{share}")

    def told(step: Step) -> None:
        at[step.phase] = time.perf_counter()

    try:
        with open_bus(BusChoice(channel=f"part-{share}")) as node:
            vault = Vault(folder / f"vault-{share}")
            Flashing(tester=Diagnostics(node), layout=layout, vault=vault, report=told, wait_s=0.0).write(
                bytes(image)
            )
    finally:
        unit.kill()
    return at["Writing"] - at["Unlocking"]


def _written_kib_s(folder: Path) -> float:
    from yarvic.bench.control_unit.facts import UnitFacts
    from yarvic.bench.control_unit.process import new_unit, start_unit
    from yarvic.core.calibration.layout import Layout
    from yarvic.core.link.buses import BusChoice, open_bus
    from yarvic.core.link.diagnostics import Diagnostics

    layout = Layout(family="bench", byte_order="big", size=SIZE)
    random = np.random.default_rng(1)
    # A unit that takes no time of its own: what is measured is the bus and the protocol.
    new_unit(folder, layout, bytes(SIZE), UnitFacts(erase_s=0.0, write_s_kib=0.0))
    unit = start_unit(folder, "written")
    took = []
    try:
        with open_bus(BusChoice(channel="written")) as node:
            tester = Diagnostics(node)
            tester.programming_session()
            tester.unlock_programming()
            for _ in range(RUNS):
                data = random.bytes(SIZE)
                begin = time.perf_counter()
                tester.erase(0, SIZE)
                for _done in tester.download(0, data):
                    pass
                if b"".join(tester.upload(0, SIZE)) != data or tester.checksum(0, SIZE) != zlib.crc32(data):
                    raise AssertionError("not what was written")
                took.append(time.perf_counter() - begin)
    finally:
        unit.kill()
    return SIZE / 1024 / median(took)


def _echo_kib_s() -> float:
    """What bare frames of 64 bytes make there and back, one at a time, both ways counted."""
    import can

    from yarvic.core.link.buses import BusChoice, open_bus

    choice = BusChoice(channel="echo")
    frame = can.Message(arbitration_id=1, data=bytes(FD_FRAME), is_fd=True, is_extended_id=False)
    child = os.fork()
    if child == 0:
        with open_bus(choice) as far:
            while True:
                heard = far.recv(1.0)
                if heard is not None:
                    far.send(can.Message(arbitration_id=2, data=heard.data, is_fd=True, is_extended_id=False))
    try:
        with open_bus(choice) as near:
            while near.recv(0.05) is None:
                near.send(frame)
            while near.recv(0.05) is not None:
                pass
            begin = time.perf_counter()
            for _ in range(FRAMES):
                near.send(frame)
                if near.recv(5.0) is None:
                    raise AssertionError("a frame was lost")
            return 2 * FRAMES * FD_FRAME / 1024 / (time.perf_counter() - begin)
    finally:
        os.kill(child, signal.SIGKILL)
        os.waitpid(child, 0)
