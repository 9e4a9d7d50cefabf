"""A recording that arrived from outside, with what is said of it before it becomes evidence."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from yarvic.core.evidence.as_told import needed
from yarvic.core.evidence.clock import MINUTES
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.dyno import Curve
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.mapping import AFR, Column, CurveSaid, Facts
from yarvic.core.evidence.origin import Reading
from yarvic.core.evidence.pulls import Pull, find_pulls
from yarvic.core.evidence.raw import RawColumn
from yarvic.core.evidence.sheet.joining import Candidate
from yarvic.core.evidence.taking import Understood, tells
from yarvic.core.formats.logs.import_log import Recording
from yarvic.core.job.model import Place
from yarvic.core.physics import FloatArray
from yarvic.core.physics.fuel import fuel as fuel_by_key
from yarvic.core.units import logged_units_of
from yarvic.state.weather import Weather

FEW = ("engine_speed", "throttle")
_OF_CURVE = ("engine_speed", "vehicle_speed", "gps_speed", "roller_speed", "power", "torque")
# Of a measured run nothing is known before somebody says it.
UNKNOWN = Conditions(simulated=False, run="", fan=None)
NO_WEATHER = Weather()
# The place of the column of time, which is none of the others'.
TIME_PLACE = -1


@dataclass(frozen=True)
class Answers:
    """What is said of an arrival: its columns, what is known beside them, where it belongs."""

    time: Column
    columns: tuple[Column, ...]
    title: str
    barometer_pa: float | None = None
    fuel: str = ""
    revision: int | None = None
    build: int | None = None
    conditions: Conditions = UNKNOWN
    weather: Weather = NO_WEATHER
    curve: CurveSaid | None = None
    joined: tuple[str, int] | None = None  # a curve's: the run and the pull in it that it was measured in
    pulls: tuple[tuple[int, Place], ...] = ()  # single pulls that belong elsewhere: number, revision and build

    def place_of(self, pull: int | None) -> Place:
        """Where a pull belongs, or the recording as a whole (None)."""
        return dict(self.pulls).get(-1 if pull is None else pull, (self.revision, self.build))

    def placed(self, pull: int | None, place: Place) -> Answers:
        """The answers with a pull, or the whole recording and all its pulls (None), given to a revision and a build."""
        if pull is None:
            return replace(self, revision=place[0], build=place[1], pulls=())
        others = {**dict(self.pulls), pull: place}
        elsewhere = {n: at for n, at in others.items() if at != (self.revision, self.build)}
        return replace(self, pulls=tuple(sorted(elsewhere.items())))

    def column(self, place: int) -> Column:
        """What is said of the column in a place."""
        return self.time if place == TIME_PLACE else self.columns[place]

    @property
    def stated(self) -> Conditions:
        """The conditions of the run, with its air."""
        return self.weather.of(self.conditions)

    @property
    def facts(self) -> Facts:
        """What is known beside the file."""
        barometer = self.barometer_pa if self.barometer_pa is not None else self.weather.station_pa
        return Facts(barometer, fuel_by_key(self.fuel).stoichiometric_afr if self.fuel else None)


class Arrival:
    """One recording with what is said of it; every change is one step back. `run` is the evidence that is read anew."""

    def __init__(
        self, recording: Recording, answers: Answers, run: str = "", candidates: Sequence[Candidate] = ()
    ) -> None:
        self.recording, self.run, self.candidates = recording, run, list(candidates)
        self.steps, self.at = [answers], 0
        self._pulls: tuple[Answers, list[Pull]] | None = None
        self._beside: tuple[Answers, dict[int, str]] | None = None
        self._asked: tuple[Answers, list[str]] | None = None

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
        return Understood(self.answers.time, self.answers.columns, self.answers.curve)

    @property
    def rows_counted(self) -> bool:
        """Whether a log has no column of time, so that its rows are counted."""
        return self.recording.raw.clock == "row" and not self.recording.raw.sheet

    def addable(self, place: int) -> list[str]:
        """The names of the columns whose numbers may be added to those of the one in a place: sampled with it, and alone in
        their name.
        """
        raw = self.recording.raw
        beside = [raw.time] if raw.time is not None and raw.clock != "row" else []
        mine = raw.time if place == TIME_PLACE else raw.columns[place]
        names = [c.name for c in (*beside, *raw.columns)]
        return [
            c.name
            for c in (*beside, *raw.columns)
            if mine is not None and c is not mine and c.name and not c.states and c.time_s is mine.time_s
            and c.values.shape == mine.values.shape and names.count(c.name) == 1
        ]  # fmt: skip

    def time_units(self, place: int = TIME_PLACE) -> list[tuple[str, str]]:
        """What the time in a place can be said to count in, and in words."""
        raw = self.recording.raw
        if place != TIME_PLACE or raw.clock == "number" or self.rows_counted:
            return [(u, u) for u in logged_units_of("time")]
        if raw.time is not None and raw.time.doubt:
            return [("s", "s: minutes and seconds"), (MINUTES, f"{MINUTES}: hours and minutes")]
        return [("s", "s")]

    def order(self) -> list[int]:
        """The places of its columns: those that are asked first, then guesses, what is known, what is not understood."""

        beside = self.beside()

        def rank(n: int) -> tuple[int, float]:
            c = self.answers.column(n)
            if c.question or n in beside:
                return 0, c.confidence
            if not c.channel:
                return 4, 0.0
            return (1 if c.doubtful else 2 if c.how == "guessed" else 3), c.confidence

        first = 0 if self.recording.raw.sheet and self.recording.raw.clock == "row" else TIME_PLACE
        return sorted(range(first, len(self.answers.columns)), key=rank)

    def asked(self) -> int:
        """How many columns are in doubt."""
        beside, said = self.beside(), self.answers
        return said.time.doubtful + sum(c.doubtful or n in beside for n, c in enumerate(said.columns))

    def beside(self) -> dict[int, str]:
        """What has to be said beside the columns, the barometer or a fuel, by the place of the column that needs it."""
        said = self.answers
        if self._beside is None or self._beside[0] != said:
            needs = [
                n
                for n, c in enumerate(said.columns)
                if c.channel and not c.question and (c.unit == AFR or c.reference == "gauge")
            ]
            found = {}
            if needs:
                log = self._part([n for n, c in enumerate(said.columns) if n in needs or tells(c)])
                doubts = {n: log.channels[said.columns[n].channel].doubt for n in needs}
                found = {
                    n: d.sentence for n, d in doubts.items() if d is not None and d.about in ("reference", "fuel")
                }
            self._beside = said, found
        return self._beside[1]

    def _part(self, places: list[int]) -> Log:
        """Some of the columns as channels, as they are said to be read."""
        raw, said = self.recording.raw, self.answers
        places = needed(said.time, said.columns, [c.name for c in raw.columns], places)
        part = replace(raw, columns=[raw.columns[n] for n in places])
        meant = Understood(said.time, tuple(said.columns[n] for n in places))
        return Recording(part, self.recording.origin, meant).log(meant, said.facts)

    def curve_asked(self) -> list[str]:
        """What has to be answered before a sheet gives a curve, or in what it contradicts itself; empty for a log."""
        from yarvic.core.evidence.sheet.curve import sheet_fault, sheet_questions

        said = self.answers
        if said.curve is None:
            return []
        if self._asked is None or self._asked[0] != said:
            places = [n for n, c in enumerate(said.columns) if c.channel in _OF_CURVE]
            log = self._part(places)
            columns = tuple(said.columns[n] for n in places)
            fault = sheet_fault(log, said.curve, columns, said.stated)
            self._asked = said, [*([fault] if fault else []), *sheet_questions(log, said.curve)]
        return self._asked[1]

    def curve(self) -> Curve | None:
        """The curve of a sheet as it is answered; None for a log, and while something is asked of it."""
        from yarvic.core.evidence.sheet.curve import sheet_curve

        said = self.answers
        if said.curve is None or self.curve_asked():
            return None
        places = [n for n, c in enumerate(said.columns) if c.channel in _OF_CURVE]
        return sheet_curve(self._part(places), said.curve, tuple(said.columns[n] for n in places), said.stated)

    def pulls(self) -> list[Pull]:
        """The pulls in it, by what its engine speed and throttle are said to be."""
        said = self.answers
        if self._pulls is None or (self._pulls[0].columns, self._pulls[0].time) != (said.columns, said.time):
            few = [n for n, c in enumerate(said.columns) if c.channel in FEW and c.unit]
            self._pulls = said, find_pulls(self._part(few)) if few else []
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
