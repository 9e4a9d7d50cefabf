"""The bus that a unit is reached over: the virtual one that ships, or any interface that python-can knows."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import can

from yarvic.core.errors import LinkError
from yarvic.core.link.virtual_bus import VirtualBus

VIRTUAL = "virtual bus"
# The bit rates of ISO 11898-1 with flexible data rate as most adapters are set. Common practice, no published source.
BITRATE, DATA_BITRATE = 500_000, 2_000_000


@dataclass(frozen=True)
class BusChoice:
    """Which bus: an interface by python-can's name, or the virtual one; its channel; whether frames hold up to 64 bytes."""

    interface: str = VIRTUAL
    channel: str = "bench"
    fd: bool = True

    @property
    def simulated(self) -> bool:
        """Whether no real unit can be on it."""
        return self.interface == VIRTUAL


def interfaces() -> list[str]:
    """The names of all interfaces that can be chosen, the virtual bus first."""
    return [VIRTUAL, *sorted(set(can.VALID_INTERFACES) - {"virtual"})]


def open_bus(choice: BusChoice) -> can.BusABC:
    """A node on the bus. Raises LinkError, saying what is to be done, for one that is not there."""
    where = f"{choice.interface}, channel {choice.channel}"
    try:
        if choice.simulated:
            return VirtualBus(choice.channel)
        if choice.interface not in can.VALID_INTERFACES:
            raise LinkError(
                f"no interface is called {choice.interface!r}",
                concerns=where,
                remedy=f"Choose one of: {', '.join(interfaces())}.",
            )
        settings: dict[str, Any] = {"fd": choice.fd, "bitrate": BITRATE}
        if choice.fd:
            settings["data_bitrate"] = DATA_BITRATE
        return can.Bus(interface=choice.interface, channel=choice.channel, ignore_config=True, **settings)
    except (can.CanError, OSError, ValueError, TypeError, ImportError, NotImplementedError) as error:
        raise LinkError(
            "the interface cannot be opened",
            concerns=where,
            remedy="Check that the adapter is plugged in, that its driver is installed and that no other program has it.",
            details=f"{type(error).__name__}: {error}",
        ) from error
