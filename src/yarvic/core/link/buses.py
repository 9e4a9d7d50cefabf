"""The bus that a unit is reached over: the virtual one that ships, or any interface that python-can knows."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from importlib.util import find_spec
from typing import Any

import can

from yarvic.core.errors import LinkError
from yarvic.core.link.virtual_bus import VirtualBus

VIRTUAL = "virtual bus"
# The bit rates of ISO 11898-1 with flexible data rate as most adapters are set. Common practice, no published source.
BITRATE, DATA_BITRATE = 500_000, 2_000_000


# Interfaces of python-can that need a package of their own: the module that is looked for, and what it is installed as
# (extras of python-can 4).
_NEEDS: Mapping[str, tuple[str, str]] = {
    "canalystii": ("canalystii", "canalystii"), "cantact": ("cantact", "cantact"), "gs_usb": ("usb", "gs-usb"),
    "neovi": ("ics", "python-ics"), "nixnet": ("nixnet", "nixnet"), "robotell": ("serial", "pyserial"),
    "seeedstudio": ("serial", "pyserial"), "serial": ("serial", "pyserial"), "slcan": ("serial", "pyserial"),
    "udp_multicast": ("msgpack", "msgpack"),
}  # fmt: skip


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


def missing(interface: str) -> str:
    """The package from the registries that an interface needs and that is not installed; empty where none is missing."""
    module, package = _NEEDS.get(interface, ("", ""))
    return package if module and find_spec(module) is None else ""


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
        lacks = missing(choice.interface)
        if lacks:
            raise LinkError(
                f"the interface {choice.interface} needs the package {lacks}, which is not installed",
                concerns=where,
                remedy=f"Install it with: pip install {lacks}, or choose another interface.",
            )
        settings: dict[str, Any] = {"fd": choice.fd, "bitrate": BITRATE}
        if choice.fd:
            settings["data_bitrate"] = DATA_BITRATE
        return can.Bus(interface=choice.interface, channel=choice.channel, ignore_config=True, **settings)
    except can.CanInterfaceNotImplementedError as error:
        raise LinkError(
            f"the interface {choice.interface} cannot be used on this computer: its driver is missing",
            concerns=where,
            remedy="Install the driver of its maker, or choose another interface.",
            details=str(error)[:1000],
        ) from error
    except (can.CanError, OSError, ValueError, TypeError, ImportError, NotImplementedError) as error:
        raise LinkError(
            "the interface cannot be opened",
            concerns=where,
            remedy="Check that the adapter is plugged in, that its driver is installed and that no other program has it.",
            details=f"{type(error).__name__}: {error}",
        ) from error
