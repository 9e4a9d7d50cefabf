"""What every way to a unit has: what it can, the vault and the journals beside it, and conversations with the unit."""

from __future__ import annotations

import time
from abc import ABC, abstractmethod
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Literal

from yarvic.core.link.journal import JOURNALS, Journal, pair_of, unfinished
from yarvic.state.settings import home
from yarvic.state.work import Asked

if TYPE_CHECKING:
    from yarvic.core.job.store import Job
    from yarvic.core.link.diagnostics import Diagnostics
    from yarvic.core.link.sectors import Step
    from yarvic.core.link.sequence import Flashing
    from yarvic.state.settings import Settings

Half = Literal["", "engine", "gearbox"]
BY = ", by "  # in what is recorded of a write, before the bus that it went over
Report = Callable[["Step"], None]


@dataclass(frozen=True)
class Hearing:
    """What a log is made with: the tester, the clock and waiting that go with its bus, and what sets a played run going."""

    tester: Diagnostics
    clock: Callable[[], float] = time.monotonic
    sleep: Callable[[float], None] = time.sleep
    begin: Callable[[], None] = lambda: None


@dataclass(frozen=True)
class Engine:
    """A run that is played to a simulated unit: the channels that it measures, and their values at a time from the start."""

    channels: tuple[str, ...]
    at: Callable[[float], Mapping[str, float]]


class Reach(ABC):
    """One job's unit as it is reached by one way. What talks may be called from any thread, one at a time."""

    over = ""  # the bus, as it is recorded; empty for the simulated one
    simulated = False  # whether no real unit can be there
    polled = False  # whether the unit changes without this program hearing of it: it is looked at again and again
    place: Path | None = None  # of units and vault, where it is not the shop's

    def __init__(self, job: Path, half: Half = "") -> None:
        self.job, self.half = str(job.absolute()), half
        self.gearbox: Reach | None = None  # the unit that is written with this one, or neither

    @property
    def vault_folder(self) -> Path:
        """The shop's vault."""
        return (self.place or home()) / "vault"

    def left_unfinished(self) -> Journal | None:
        """The journal of a write into this unit that has not ended, the newest; None where there is none."""
        mine = [j for j in unfinished(self.vault_folder / JOURNALS) if j.begun.job == self.job and self.owns(j)]
        return mine[-1] if mine else None

    def owns(self, journal: Journal) -> bool:
        """Whether a journal is of a write that went this way."""
        mine = ("gearbox",) if self.half == "gearbox" else ("", "engine")
        return journal.begun.by == self.key and journal.begun.half in mine

    def pair_left(self) -> list[Journal]:
        """The journals of a write that has not ended: of this unit, or of a pair of which it is the engine's."""
        left = self.left_unfinished() or (self.gearbox.left_unfinished() if self.gearbox is not None else None)
        return pair_of(self.vault_folder / JOURNALS, left) if left is not None else []

    @property
    @abstractmethod
    def key(self) -> str:
        """Of the way."""

    @abstractmethod
    def memory(self) -> bytes | None:
        """What the unit holds as far as this program knows; None where it was not read yet."""

    def fingerprint(self) -> object:
        """Another value whenever this program changed something about the unit."""
        return None

    @abstractmethod
    def looking(self) -> AbstractContextManager[Flashing]:
        """A conversation that only asks. Raises LinkError."""

    @abstractmethod
    def live(self, engine: Engine | None) -> AbstractContextManager[Hearing]:
        """A conversation that logs while the engine runs; `engine` is what a simulated one does. Raises LinkError."""

    @abstractmethod
    def talk(self, report: Report, cancelled: Asked) -> AbstractContextManager[Flashing]:
        """A conversation that may write. Raises LinkError."""


@dataclass(frozen=True)
class Way:
    """How a unit can be reached. `make` gives the unit of a job, which may be the simulated one that it is given, or None
    where it cannot be reached so; a way without it is gone by hand. `caution` is said before it is used.
    """

    key: str
    title: str
    order: int
    make: Callable[[Job, Reach | None, Settings], Reach | None] | None
    caution: str = ""
