"""A finding: what a check says of one pull, with the number, its limit and the place."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from math import isfinite

from yarvic.core.checks.rule import Rule
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.units import UNITS, from_canonical

PASS, WATCH, STOP, NO_DATA = "pass", "watch", "stop", "no_data"
# As they are read on screen and in sheets.
VERDICT_WORDS: Mapping[str, str] = {PASS: "pass", WATCH: "watch", STOP: "stop", NO_DATA: "no data"}
# What stops a release comes first.
ORDER: Mapping[str, int] = {STOP: 0, NO_DATA: 1, WATCH: 2, PASS: 3}


@dataclass(frozen=True)
class Where:
    """The place in the evidence: a channel, a time, the engine speed there, the cylinder."""

    evidence: str
    start_s: float
    end_s: float
    time_s: float | None = None
    speed_rpm: float | None = None
    channel: str | None = None
    cylinder: int | None = None


@dataclass(frozen=True)
class Finding:
    """`value` and the rule's limits in canonical units; value is None when the question could not be answered."""

    check: str
    severity: str
    statement: str
    rule: Rule | None
    value: float | None
    where: Where
    note: str = ""
    basis: str = ""
    family: str = ""
    limit: str = ""  # the key of the shipped limit that judged it; empty for one of the job's ledger
    read: tuple[str, ...] = ()  # the channels that its family read

    def of_family(self, family: str, read: tuple[str, ...]) -> Finding:
        """The same, of a family that read these channels."""
        return Finding(
            self.check, self.severity, self.statement, self.rule, self.value, self.where, self.note, self.basis, family,
            self.limit, read,
        )  # fmt: skip

    def watched_at_most(self) -> Finding:
        """The same, where what was found may be so for a good reason: it is to be watched, and stops nothing."""
        return replace(self, severity=WATCH) if self.severity == STOP else self

    def read_in_words(self) -> str:
        """Which channels its family read, in words; several of one kind counted."""
        by_family: dict[str, int] = {}
        for key in self.read:
            family = CHANNELS[key].family if key in CHANNELS else ""
            title = CHANNELS[family].title if family in CHANNELS else CHANNELS[key].title if key in CHANNELS else key
            by_family[title] = by_family.get(title, 0) + 1
        named = [
            f"{t.removesuffix(' all cylinders').lower()}{f' ({n})' if n > 1 else ''}" for t, n in by_family.items()
        ]
        return ", ".join(named)

    @property
    def margin(self) -> float | None:
        """Distance to the stop limit, canonical unit; negative past it."""
        if self.value is None or self.rule is None:
            return None
        away = self.rule.stop_canonical - self.value
        return away if self.rule.side == "above" else -away

    def numbers(self, units: Mapping[str, str]) -> str:
        """Value, place, limit and margin in the units a person chose by quantity."""
        if self.value is None or self.rule is None:
            return self.note
        label = units.get(self.rule.quantity, self.rule.unit)
        place = f" at {self.where.speed_rpm:,.0f} rpm" if self.where.speed_rpm is not None else ""
        text = (
            f"{amount(self.value, label)}{place}, limit {amount(self.rule.stop_canonical, label)}"
            f"{', ' + self.basis if self.basis else ''}"
        )
        return f"{text}. {self.note}" if self.note else text

    def share_of_limit(self) -> float | None:
        """How much of the way to the stop limit is used, for a bar; over 1 past it.

        The way is counted from zero for quantities that have one, and from 20 degC for temperatures. A positive
        number that must not fall under its limit has used the more, the nearer it comes.
        """
        return None if self.value is None else self._share(self.value)

    def watch_share(self) -> float | None:
        """Where the watch limit stands on the same way."""
        return None if self.rule is None else self._share(self.rule.watch_canonical)

    def _share(self, value: float) -> float | None:
        if self.rule is None:
            return None
        stop = self.rule.stop_canonical
        if self.rule.side == "below" and stop > 0.0:
            return stop / value if value > 0.0 else None
        zero = 293.15 if self.rule.quantity == "temperature" else 0.0
        return max(0.0, (value - zero) / (stop - zero)) if stop != zero else None


def amount(value: float, label: str) -> str:
    """A canonical number in the given unit, as it is read: `235.0 kPa`, `-4.2 %`, `0.84` for lambda."""
    u = UNITS[label]
    shown = f"{from_canonical(value, label):{',' if label == 'rpm' else ''}.{u.decimals}f}"
    if not shown.strip("-0.,"):
        shown = shown.lstrip("-")  # what rounds to nothing has no sign
    if label in ("lambda", "fraction"):
        return f"{shown} {label}" if label == "lambda" else shown
    return f"{shown} {label.removesuffix(' diff')}"


def judge(rule: Rule, value: float) -> str:
    """Severity of a value by its rule; what is no number is no data, and never passes."""
    if not isfinite(value):
        return NO_DATA
    sign = 1.0 if rule.side == "above" else -1.0
    if sign * value > sign * rule.stop_canonical:
        return STOP
    if sign * value > sign * rule.watch_canonical:
        return WATCH
    return PASS


def verdict(findings: list[Finding]) -> str:
    """The worst severity of a set. One that could not be judged outranks all but a stop; `no_data` for none."""
    return min((f.severity for f in findings), key=lambda s: ORDER[s], default=NO_DATA)
