"""Limits of checks as a job has them: changed with a reason and a name, and put back to what ships."""

from __future__ import annotations

from yarvic.core.checks.limits import OwnLimit, default_limits, within
from yarvic.core.checks.rule import Rule
from yarvic.core.errors import JobError
from yarvic.core.typed_numbers import parse_entry
from yarvic.core.units import from_canonical, unit
from yarvic.state.session import Session


def own_limit(session: Session, key: str) -> OwnLimit | None:
    """The limit that the job has of its own; None where the shipped one counts."""
    job = session.job
    return next((o for o in job.sheet.check_limits if o.check == key), None) if job is not None else None


def bounds_in_words(key: str, label: str) -> str:
    """Between which numbers the limit may stand, in a unit."""
    rule = default_limits().rules[key]
    low, high = (_in(rule, bound, label) for bound in within(key))
    return f"{min(low, high):g} to {max(low, high):g} {label.removesuffix(' diff')}"


def _in(rule: Rule, value: float, label: str) -> float:
    shipped = rule.changed(watch=value, stop=value)
    return round(float(from_canonical(shipped.stop_canonical, label)), 4)


def set_limit(session: Session, key: str, numbers: tuple[str, str], label: str, why: str, name: str) -> None:
    """Keep another limit: `numbers` are watch and stop as written, in `label` unless they name a unit themselves.

    Raises YarvicError, saying what cannot be; then nothing changes.
    """
    sheet = session.sheet
    if sheet is None:
        raise JobError("no job is open", remedy="Open one.")
    if not why.strip():
        raise JobError("a limit is changed for a reason", remedy="Say why in a sentence.")
    if not name.strip():
        raise JobError("a limit is changed by somebody", remedy="Give your name.")
    rule = default_limits().rules[key]
    watch, stop = (_read(text, label) for text in numbers)
    at = sheet.job.clock().isoformat(timespec="seconds")
    made = OwnLimit(
        check=key,
        watch=watch,
        stop=stop,
        unit=label,
        reason=why.strip(),
        name=name.strip(),
        time=at,
    )
    others = tuple(o for o in sheet.sheet.check_limits if o.check != key)
    shown = label.removesuffix(" diff")
    what = f"Limit of {rule.title.lower()}: watch {watch:g}, stop {stop:g} {shown}, by {name.strip()}: {why.strip()}."
    sheet.set(what, check_limits=(*others, made))


def _read(text: str, label: str) -> float:
    words = text.strip()
    if not words:
        raise JobError("watch and stop need a number each", remedy="Write both.")
    return float(from_canonical(parse_entry(words, label), label))


def as_shipped(session: Session, key: str) -> None:
    """Put a limit back to the one that ships."""
    if session.sheet is not None and own_limit(session, key) is not None:
        rest = tuple(o for o in session.sheet.sheet.check_limits if o.check != key)
        session.sheet.set(f"Limit of {default_limits().rules[key].title.lower()}: as shipped.", check_limits=rest)


def shown_unit(session: Session, key: str) -> str:
    """The unit in which a limit is shown."""
    rule = default_limits().rules[key]
    return unit(session.settings.units.get(rule.quantity, rule.unit)).label
