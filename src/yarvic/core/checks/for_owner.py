"""A page for the owner: in plain words whether the vehicle is safe as it was logged, and what to look after."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from yarvic.core.checks.causes import Causes
from yarvic.core.checks.finding import NO_DATA, STOP, WATCH
from yarvic.core.checks.run import Summary

# What each family is called to somebody who does not read logs.
PLAIN = {
    "Boost": "the turbocharger and its pipes",
    "Charge air": "the cooling of the air that the engine breathes",
    "Fuel pressure": "the fuel supply",
    "Mixture": "the mixture of fuel and air",
    "Knock": "knock, which breaks pistons",
    "Temperatures": "temperatures",
    "Power and torque": "power, and what the drivetrain carries",
    "Filling": "the air filter and the intake",
    "Drivetrain": "clutch and drivetrain",
    "Ignition and supply": "ignition and battery",
    "Sensors": "sensors that do not agree",
}
CAUTION = (
    "This page says what the logs show of the pulls that were made, on those days. It takes the place of no inspection."
    " Local rules for vehicles and their emissions come first; repairs belong in a licensed workshop."
)


@dataclass(frozen=True)
class OwnersPage:
    """The page in words: a headline, and under headings the sentences that it rests on."""

    title: str
    revision: str
    headline: str
    parts: tuple[tuple[str, tuple[str, ...]], ...]
    simulated: bool


def owners_page(
    title: str,
    revision: str,
    summaries: Sequence[Summary],
    unjudged: Sequence[str],
    found: Causes,
    *,
    simulated: bool,
) -> OwnersPage:
    """The page of a revision's evidence. What could not be judged is said, and never counts as safe."""
    stops = [s for s in summaries if s.worst.severity == STOP]
    watches = [s for s in summaries if s.worst.severity == WATCH]
    unknown = [s for s in summaries if s.worst.severity == NO_DATA]
    families = list(dict.fromkeys([*(s.family for s in unknown), *unjudged]))
    parts = []
    if stops:
        parts.append(("What is wrong", tuple(_plain(s) for s in stops)))
    if watches:
        parts.append(("Keep an eye on", tuple(_plain(s) for s in watches)))
    if found.ranked:
        named = [f"{c.title} ({c.share * 100.0:.0f} of 100)." for c in found.likeliest]
        left = [f"Not explained by it: {', '.join(found.unexplained)}."] if found.unexplained else []
        parts.append(("Most likely", (*named[:-1], f"{named[-1]} Next: {found.next_look}", *left)))
    if families:
        lines = tuple(f"{_capital(PLAIN.get(f, f.lower()))}: the logs do not tell." for f in families)
        parts.append(("What nobody could judge", lines))
    held = sum(s.worst.severity not in (STOP, WATCH, NO_DATA) for s in summaries)
    if held:
        parts.append(("What holds", (f"{held} of {len(summaries)} checks hold in every pull.",)))
    return OwnersPage(title, revision, _headline(stops, watches, families, summaries), tuple(parts), simulated)


def _headline(
    stops: Sequence[Summary], watches: Sequence[Summary], unknown: Sequence[str], all_: Sequence[Summary]
) -> str:
    if not all_:
        return "Nothing was logged yet: nobody can say."
    if stops:
        about = _listed([PLAIN.get(s.family, s.family.lower()) for s in stops])
        return f"Do not drive it hard until this is put right: {about}."
    if unknown:
        about = _listed([PLAIN.get(f, f.lower()) for f in unknown])
        return f"What was logged is safe; not everything could be judged: {about}. Do not take it for safe."
    if watches:
        return f"Safe with an eye on {_listed([PLAIN.get(s.family, s.family.lower()) for s in watches])}."
    return "Safe as logged."


def _listed(names: Sequence[str]) -> str:
    once = list(dict.fromkeys(names))
    return once[0] if len(once) == 1 else f"{'; '.join(once[:-1])}; and {once[-1]}"


def _plain(s: Summary) -> str:
    numbers = s.worst.numbers({})
    told = f" ({numbers.rstrip('.')})" if numbers else ""
    area = _capital(PLAIN.get(s.family, s.family.lower()).split(",")[0])
    return f"{area}: {s.sentence()}{told}."


def _capital(words: str) -> str:
    return f"{words[:1].upper()}{words[1:]}"
