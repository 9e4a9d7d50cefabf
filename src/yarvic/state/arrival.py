"""A recording that arrived from outside, with what is said of it before it becomes evidence."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from yarvic.core.evidence.mapping import Column, Facts
from yarvic.core.evidence.origin import Reading
from yarvic.core.evidence.pulls import Pull, find_pulls
from yarvic.core.evidence.raw import RawColumn
from yarvic.core.evidence.taking import Understood, asked_beside
from yarvic.core.formats.logs.import_log import Recording
from yarvic.core.physics import FloatArray
from yarvic.core.physics.fuel import fuel as fuel_by_key

FEW = ("engine_speed", "throttle")


@dataclass(frozen=True)
class Answers:
    """What is said of an arrival: its columns, what is known beside them, where it belongs."""

    columns: tuple[Column, ...]
    title: str
    barometer_pa: float | None = None
    fuel: str = ""
    revision: int | None = None
    build: int | None = None

    @property
    def facts(self) -> Facts:
        """What is known beside the file."""
        return Facts(self.barometer_pa, fuel_by_key(self.fuel).stoichiometric_afr if self.fuel else None)


class Arrival:
    """One recording with what is said of it; every change is one step back. `run` is the evidence that is read anew."""

    def __init__(self, recording: Recording, answers: Answers, run: str = "") -> None:
        self.recording, self.run = recording, run
        self.steps, self.at = [answers], 0
        self._pulls: tuple[Answers, list[Pull]] | None = None

    @property
    def answers(self) -> Answers:
        """What is said of it now."""
        return self.steps[self.at]

    def say(self, answers: Answers) -> bool:
        """Say something else of it; whether that changes anything."""
        if answers == self.answers:
            return False
        self.steps = [*self.steps[: self.at + 1], answers]
        self.at += 1
        return True

    def step(self, by: int) -> bool:
        """Go back or forth by one step; whether there was one."""
        if not 0 <= self.at + by < len(self.steps):
            return False
        self.at += by
        return True

    @property
    def understood(self) -> Understood:
        """What its columns are said to mean."""
        return Understood(self.recording.understood.time, self.answers.columns)

    def order(self) -> list[int]:
        """The places of its columns: those that are asked first, then guesses, what is known, what is not understood."""

        beside = self.beside()

        def rank(n: int) -> tuple[int, float]:
            c = self.answers.columns[n]
            if c.question or n in beside:
                return 0, c.confidence
            if not c.channel:
                return 4, 0.0
            return (1 if c.doubtful else 2 if c.how == "guessed" else 3), c.confidence

        return sorted(range(len(self.answers.columns)), key=rank)

    def asked(self) -> int:
        """How many columns are in doubt."""
        beside = self.beside()
        return sum(c.doubtful or n in beside for n, c in enumerate(self.answers.columns))

    def beside(self) -> dict[int, str]:
        """What has to be said beside the columns, the barometer or a fuel, by the place of the column that needs it."""
        return asked_beside(self.understood, self.answers.facts)

    def pulls(self) -> list[Pull]:
        """The pulls in it, by what its engine speed and throttle are said to be."""
        if self._pulls is None or self._pulls[0].columns != self.answers.columns:
            raw, columns = self.recording.raw, self.answers.columns
            few = [n for n, c in enumerate(columns) if c.channel in FEW and c.unit]
            part = replace(raw, columns=[raw.columns[n] for n in few])
            meant = Understood(self.understood.time, tuple(columns[n] for n in few))
            found = find_pulls(Recording(part, self.recording.origin, meant).log(meant)) if few else []
            self._pulls = self.answers, found
        return self._pulls[1]

    def reading(self) -> Reading:
        """How it is read, as the job keeps it."""
        facts = self.answers.facts
        return Reading(
            mapping=self.understood.mapping(self.recording.raw, self.recording.origin.name),
            barometer_pa=facts.barometer_pa,
            stoichiometric_afr=facts.stoichiometric_afr,
        )


def glance(column: RawColumn, points: int = 120) -> FloatArray:
    """A few numbers of a column, evenly over it, for a small trace."""
    values = column.values
    return np.asarray(values[:: max(1, values.size // points)][:points])
