"""Is the vehicle well enough to be calibrated: items with their state, number, reason, and who saw it when."""

from __future__ import annotations

import tomllib
from dataclasses import dataclass
from functools import cache
from importlib.resources import files
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH, judge
from yarvic.core.checks.rule import Rule
from yarvic.core.document import Document
from yarvic.core.errors import YarvicError
from yarvic.core.plan.vehicle import Vehicle
from yarvic.core.units import UNITS, to_canonical

State = Literal["", "pass", "watch", "stop"]
STATES: tuple[State, ...] = ("", "pass", "watch", "stop")
SEVERITY = {"": NO_DATA, "pass": PASS, "watch": WATCH, "stop": STOP}


class Measure(Document):
    """The number that an item is judged by: trouble lies above or below `stop`, `watch` comes before. In `unit`."""

    title: Annotated[str, Field(min_length=1)]
    unit: str
    side: Literal["above", "below"]
    watch: float
    stop: float
    source: Annotated[str, Field(min_length=1)]

    @model_validator(mode="after")
    def _in_order(self) -> Measure:
        if self.unit not in UNITS:
            raise ValueError(f"unit {self.unit!r} is unknown")
        self.rule()
        return self

    def rule(self) -> Rule:
        """The same as a rule. Raises ValueError when stop comes before watch."""
        quantity = UNITS[self.unit].quantity
        return Rule(
            title=self.title, quantity=quantity, unit=self.unit, side=self.side, watch=self.watch, stop=self.stop,
            source=self.source,
        )  # fmt: skip


class Item(Document):
    """One item. `value` is in the measure's unit; `state` is what was decided, by hand or by the number."""

    key: Annotated[str, Field(min_length=1, max_length=60)]
    title: Annotated[str, Field(min_length=1, max_length=80)]
    ask: str = ""
    station: str = "cylinders"
    measure: Measure | None = None
    state: State = ""
    value: Annotated[float, Field(ge=-1e9, le=1e9)] | None = None
    reason: Annotated[str, Field(max_length=400)] = ""
    who: str = ""
    when: str = ""

    @property
    def severity(self) -> str:
        """Its state as a verdict; unknown as long as nobody looked."""
        return SEVERITY[self.state]

    def by_number(self, value: float) -> State:
        """What a value says by the item's limits. Raises YarvicError for an item without a number."""
        if self.measure is None:
            raise YarvicError(f"{self.title} is not judged by a number", remedy="Choose pass, watch or stop.")
        found = judge(self.measure.rule(), float(to_canonical(value, self.measure.unit)))
        return {PASS: "pass", WATCH: "watch", STOP: "stop"}[found]  # type: ignore[return-value]

    def seen(self, state: State, reason: str, who: str, when: str, value: float | None = None) -> Item:
        """The item as somebody saw it. Raises YarvicError for a watch or stop that neither reason nor number says.

        A number worse than `state` allows is not passed over: the reason must say why.
        """
        told = self.by_number(value) if value is not None else ""
        if state in ("watch", "stop") and not reason.strip() and told != state:
            raise YarvicError(f"{self.title}: {state} needs its reason", remedy="Say in a line what was seen.")
        if state and told and STATES.index(state) < STATES.index(told) and not reason.strip():
            raise YarvicError(
                f"{self.title}: the number says {told}, not {state}",
                remedy="Give the reason for judging otherwise, or measure again.",
            )
        return self.changed(
            state=state,
            reason=reason.strip(),
            who=who.strip() if state else "",
            when=when if state else "",
            value=value,
        )

    def in_words(self) -> str:
        """Reason and number in a line."""
        number = ""
        if self.value is not None and self.measure is not None:
            m, unit = self.measure, UNITS[self.measure.unit]
            word = "at most" if m.side == "above" else "at least"
            shown = "" if m.unit == "count" else f" {m.unit}"
            number = f"{m.title} {self.value:.{min(unit.decimals, 1)}f}{shown}, {word} {m.watch:g}"
        return "; ".join(words for words in (self.reason, number) if words)


@cache
def _data() -> dict[str, dict[str, Any]]:
    return tomllib.loads(files("yarvic.core.plan").joinpath("data/readiness.toml").read_text("utf-8"))


def default_items(vehicle: Vehicle) -> tuple[Item, ...]:
    """The items that a vehicle of this kind is looked at for; nobody has looked yet."""
    found = []
    for key, entry in _data().items():
        if not vehicle.has(entry):
            continue
        kept = {k: v for k, v in entry.items() if k not in ("only", "not_for")}
        found.append(Item(key=key, **kept))
    return tuple(found)


def fresh(items: tuple[Item, ...]) -> tuple[Item, ...]:
    """The same items with nothing seen yet, for a template or another vehicle."""
    return tuple(Item(key=i.key, title=i.title, ask=i.ask, station=i.station, measure=i.measure) for i in items)


@dataclass(frozen=True)
class Readiness:
    """All items, ranked into what stops, what is to be watched, and what nobody saw."""

    items: tuple[Item, ...]

    def of(self, state: State) -> list[Item]:
        """The items in a state."""
        return [i for i in self.items if i.state == state]

    @property
    def severity(self) -> str:
        """The worst state; unknown when nothing stops and something was not seen."""
        if self.of("stop"):
            return STOP
        if self.of(""):
            return NO_DATA
        return WATCH if self.of("watch") else PASS

    def stopping(self) -> str:
        """What stops, in a sentence; empty when nothing does."""
        return "; ".join(f"{i.title}: {i.in_words()}" for i in self.of("stop"))
