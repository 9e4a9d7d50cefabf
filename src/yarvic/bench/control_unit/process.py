"""The simulated unit as a process: `python -m yarvic.bench.control_unit.process FOLDER CHANNEL [NUMBER]`.

The folder holds `memory.bin`, `unit.json` and `layout.json`. It says "ready" on standard output when it listens, and goes
once its standard input has been closed and nobody has asked anything for a while: whoever started it may be killed, the
unit stays as a unit would.
"""

from __future__ import annotations

import os
import select
import subprocess
import sys
import time
from dataclasses import dataclass
from pathlib import Path

from yarvic.bench.control_unit.facts import UnitFacts, read_facts, write_facts
from yarvic.core import children
from yarvic.core.calibration.layout import Layout
from yarvic.core.errors import LinkError
from yarvic.core.link.buses import BusChoice, open_bus
from yarvic.core.link.transport import TESTER, UNIT, IsoTp, TransportError

ALONE_S = 20.0  # how long a unit stays whose starter is gone
START_S = 60.0  # a machine at its limits takes long to start a process


def run(folder: Path, channel: str, number: int = 0) -> None:
    """Answer until nobody is there any more, or the supply gives out."""
    from yarvic.bench.control_unit.server import Server
    from yarvic.bench.control_unit.session import PowerLost

    layout = Layout.model_validate_json((folder / "layout.json").read_bytes())
    server = Server(folder, layout)
    bus = open_bus(BusChoice(channel=channel))
    line = IsoTp(bus, UNIT + number, TESTER + number, fd=True)
    print("ready", flush=True)
    asked = time.monotonic()
    try:
        while not _alone() or time.monotonic() - asked < ALONE_S:
            request = line.receive(0.5)
            if request is None:
                continue
            asked = time.monotonic()
            try:
                for response in server.answer(request):
                    line.specific_send(response)
            except TransportError:
                continue  # whoever asked is gone; the next may ask
            except PowerLost:
                return
    finally:
        bus.shutdown()


def _alone() -> bool:
    """Whether standard input was closed."""
    ready, _, _ = select.select([sys.stdin], [], [], 0.0)
    return bool(ready) and not os.read(sys.stdin.fileno(), 1)


@dataclass
class UnitProcess:
    """A unit that runs. `kill` takes its supply away at once."""

    folder: Path
    channel: str
    process: subprocess.Popen[bytes]

    @property
    def runs(self) -> bool:
        """Whether it is there."""
        return self.process.poll() is None

    def kill(self) -> None:
        """Power off, in the middle of whatever it does."""
        self.process.kill()
        self.process.wait()
        for pipe in (self.process.stdin, self.process.stdout):
            if pipe is not None:
                pipe.close()

    def set(self, **values: object) -> None:
        """Change what is around the unit: its battery, its lock, the bench. Raises LinkError."""
        write_facts(self.folder, read_facts(self.folder).changed(**values))

    def memory(self) -> bytes:
        """What it holds, as one who opens it would see."""
        return (self.folder / "memory.bin").read_bytes()


def new_unit(folder: Path, layout: Layout, memory: bytes, facts: UnitFacts | None = None) -> None:
    """Make the folder of a unit that holds a memory. Raises LinkError for one of another length."""
    if len(memory) != layout.length:
        raise LinkError(
            f"the memory has {layout.length} bytes, not {len(memory)}", remedy="Use an image of this unit."
        )
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "layout.json").write_text(layout.model_dump_json(), "utf-8")
    new = folder / f"memory.bin.{os.getpid()}.new"
    new.write_bytes(memory)
    new.replace(folder / "memory.bin")
    write_facts(folder, facts or UnitFacts())


def _bus() -> dict[str, str]:
    """Where the bus is, for a process that starts in another folder."""
    named = os.environ.get("YARVIC_BUS")
    return {"YARVIC_BUS": os.path.abspath(named)} if named else {}


def start_unit(folder: Path, channel: str, number: int = 0) -> UnitProcess:
    """Give a unit its supply; `number` is its place on the bus. Raises LinkError when it does not come up."""
    process = subprocess.Popen(
        children.command("yarvic.bench.control_unit.process", str(folder.absolute()), channel, str(number)),
        stdin=subprocess.PIPE, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, cwd="/",
        env=children.environment(**_bus()),
    )  # fmt: skip
    unit = UnitProcess(folder, channel, process)
    assert process.stdout is not None
    ready, _, _ = select.select([process.stdout], [], [], START_S)
    if not ready or process.stdout.readline() != b"ready\n":
        unit.kill()
        raise LinkError("the simulated unit does not come up", concerns=str(folder), remedy="Start it anew.")
    return unit


def main(folder: str, channel: str, number: str) -> None:
    """Run a unit in this process until its supply is taken away."""
    run(Path(folder), channel, int(number))
