"""What a waiver waives: the findings as they were when a named person set them aside, and whether they still hold."""

from __future__ import annotations

import json
from collections.abc import Iterable
from dataclasses import asdict, dataclass
from typing import Any

from yarvic.core.checks.finding import PASS, WATCH, Finding
from yarvic.core.document import parse_json
from yarvic.core.errors import FormatError
from yarvic.core.units import UNITS, from_canonical


@dataclass(frozen=True)
class Ground:
    """One thing that keeps a condition from being met.

    `value` and `limit` are rounded as they are read, in `unit`; `side` says on which side of the limit trouble lies.
    Where there is no number, `about` says what it is about. `evidence` names the run it was found in.
    """

    about: str
    severity: str
    value: float | None = None
    limit: float | None = None
    side: str = "above"
    unit: str = ""
    evidence: str = ""

    def covers(self, other: Ground) -> bool:
        """Whether another is the same thing and no worse."""
        if (self.about, self.severity, self.limit, self.side, self.unit) != (
            other.about, other.severity, other.limit, other.side, other.unit,
        ):  # fmt: skip
            return False
        if self.value is None or other.value is None:
            return self.value is other.value
        return other.value <= self.value if self.side == "above" else other.value >= self.value


def of_finding(finding: Finding) -> Ground:
    """The ground that a finding of a check gives."""
    rule = finding.rule
    if finding.value is None or rule is None:
        return Ground(f"{finding.check}: {finding.note}", finding.severity, evidence=finding.where.evidence)
    places = UNITS[rule.unit].decimals
    value, limit = (round(float(from_canonical(v, rule.unit)), places) for v in (finding.value, rule.stop_canonical))
    return Ground(finding.check, finding.severity, value, limit, rule.side, rule.unit, finding.where.evidence)


def shuts_gate(severity: str) -> bool:
    """Whether a severity keeps the gate shut."""
    return severity not in (PASS, WATCH)


def written(grounds: Iterable[Ground]) -> str:
    """Grounds as they are kept with a waiver."""
    return json.dumps([asdict(g) for g in grounds])


def read(text: str) -> tuple[Ground, ...]:
    """Grounds of a waiver; none where it does not say what it was for, or says it in words nobody can read."""
    try:
        return tuple(_ground(each) for each in parse_json(text, source="waiver")) if text else ()
    except (FormatError, ValueError, TypeError):
        return ()


def _ground(values: Any) -> Ground:
    ground = Ground(**values)
    numbers = (ground.value, ground.limit)
    texts = (ground.about, ground.severity, ground.side, ground.unit, ground.evidence)
    if not all(n is None or type(n) in (int, float) for n in numbers) or not all(isinstance(t, str) for t in texts):
        raise ValueError("a ground of another form")
    return ground


def still_waived(waived: Iterable[Ground], now: Iterable[Ground]) -> bool:
    """Whether everything that stands in the way now was waived, and none of it has become worse."""
    known = tuple(waived)
    return all(any(w.covers(g) for w in known) for g in now)
