"""How a unit stands now: asked over the bus, nothing changed. It is shown before a write, and looked at again meanwhile."""

from __future__ import annotations

from dataclasses import dataclass

from yarvic.core.link.diagnostics import Diagnostics
from yarvic.core.link.identifiers import Did, MemoryMap, SupplyState, UnitState
from yarvic.core.link.unit import FaultCode, Identity


@dataclass(frozen=True)
class UnitNow:
    """`others`: identifiers of frames that somebody else sent to a unit, or got from one, while this end was silent."""

    identity: Identity
    serial: str
    vehicle: str
    state: UnitState
    supply: SupplyState
    codes: tuple[FaultCode, ...]
    map: MemoryMap
    others: tuple[int, ...]


def identity_of(tester: Diagnostics) -> Identity:
    """Who a unit is, and what it runs. Raises LinkError."""
    name = f"{tester.text(Did.SYSTEM_NAME)} {tester.text(Did.SERIAL_NUMBER)}"
    return Identity(name, tester.text(Did.FAMILY), tester.text(Did.SOFTWARE_VERSION), tester.text(Did.RUNNING))


def look(tester: Diagnostics) -> UnitNow:
    """Ask. Raises LinkError for a unit that does not answer, or answers nonsense."""
    others = tester.others()
    return UnitNow(
        identity_of(tester),
        tester.text(Did.SERIAL_NUMBER),
        tester.text(Did.VEHICLE),
        tester.state(),
        tester.supply(),
        tuple(tester.fault_codes()),
        tester.memory_map(),
        others,
    )
