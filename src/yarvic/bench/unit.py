"""The simulated vehicle's unit as its engine runs on it: memory, what it has learnt, the calibration.

On the bus it is `bench/control_unit`; `state/reach/simulated` brings what its memory holds there and back.
"""

from __future__ import annotations

from dataclasses import dataclass, replace
from threading import Lock
from typing import Any, Literal

from yarvic.bench.control_unit.supply import MAINTAINED_V, Supply
from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.image import Image, check_image, check_marks, memory_of, name_in
from yarvic.core.calibration.layout import Layout
from yarvic.core.errors import CalibrationError, LinkError
from yarvic.core.link.unit import FaultCode, Identity

NOT_WHOLE = "memory is not whole"


@dataclass(frozen=True)
class Around:
    """What is around the unit: its lock and whether it was opened, whether it lies on the bench, its battery (how full, 0 to
    1, and whether a maintainer holds it), and whether the engine runs.
    """

    lock: Literal["open", "once", "bench"] = "open"
    opened: bool = False
    on_bench: bool = False
    maintained: bool = True
    charge: float = 0.9
    engine_runs: bool = False


class SimulatedUnit:
    """A control unit with its calibration memory; `seconds_per_block` is how long it takes to write one."""

    def __init__(
        self, layout: Layout, memory: bytes, *, voltage: float = MAINTAINED_V, seconds_per_block: float = 0.0
    ) -> None:
        self.layout = layout
        self.voltage = voltage
        self.seconds_per_block = seconds_per_block
        self.name = "simulated unit"
        self.serial = "YR-SIM-01"
        self.learned: dict[str, float] = {}  # adaptations, kept from run to run, lost with a flash
        self.codes: tuple[FaultCode, ...] = ()  # stored fault codes
        self.around = Around()
        self._changing = Lock()
        self._memory = bytearray(memory)

    def copy(self) -> SimulatedUnit:
        """A unit like this one, for a run beside: what happens to the one does not happen to the other."""
        other = SimulatedUnit(self.layout, self.memory, voltage=self.voltage)
        other.learned, other.codes, other.around = dict(self.learned), self.codes, self.around
        return other

    def surround(self, **values: Any) -> None:
        """Change what is around it. A person does so while a write on another thread takes up what it found."""
        with self._changing:
            self.around = replace(self.around, **values)

    @property
    def memory(self) -> bytes:
        """The bytes as they are now."""
        return bytes(self._memory)

    def identify(self) -> Identity:
        """Who the unit is and which image it runs; an unwhole memory is said to be so."""
        try:
            check_image(self.memory, self.layout)
            running = name_in(self.memory, self.layout)
        except CalibrationError:
            running = self._instead()
        return Identity(f"{self.name} {self.serial}", self.layout.family, self.layout.version, running)

    @property
    def whole(self) -> bool:
        """Whether it starts."""
        try:
            check_image(self.memory, self.layout)
        except CalibrationError:
            return False
        return True

    def _instead(self) -> str:
        """What a unit that does not start holds."""
        try:
            check_marks(memory_of(self.memory, self.layout), self.layout, self.name)
        except CalibrationError:
            return "an image of another family"
        return NOT_WHOLE

    def supply_voltage(self) -> float:
        """Supply voltage in V, with the engine off."""
        return self.supply().voltage_v(False)

    def supply(self) -> Supply:
        """Its battery and what holds it; `voltage` is what a maintainer leaves at the unit."""
        dip_v = MAINTAINED_V - self.voltage
        return Supply(state=self.around.charge, maintained=self.around.maintained, dip_v=dip_v)

    def fault_codes(self) -> list[FaultCode]:
        """The codes that are stored."""
        return list(self.codes)

    def load(self, memory: bytes) -> None:
        """Hold other bytes, as if somebody else had written them. Raises LinkError for another length."""
        if len(memory) != len(self._memory):
            raise LinkError(
                f"the memory has {len(self._memory)} bytes, not {len(memory)}",
                concerns=self.name,
                remedy="Use an image of this unit.",
            )
        self._memory[:] = memory
        self.learned.clear()

    def restart(self) -> None:
        """Take up the memory. Raises LinkError when it is not whole."""
        try:
            check_image(self.memory, self.layout)
        except CalibrationError as error:
            raise LinkError(
                f"the unit does not start: {error.what}", concerns=self.name, remedy="Flash a whole image again."
            ) from None

    def calibration(self, slot: str) -> Calibration:
        """What the unit runs, decoded from its own bytes. Raises LinkError when it does not start."""
        self.restart()
        self.layout.slot_offset(slot)
        return Image(self.layout, self.memory)[slot]
