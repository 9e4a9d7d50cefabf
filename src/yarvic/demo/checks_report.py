"""What a campaign of the checks gave: as one document, and as a page."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable
from typing import Any

from yarvic.bench.faults import FAULTS
from yarvic.demo.checks_campaign import LEAST_K, MOST_K, PRESSURE_SHARE, PULLS, Outcome, Tally

HALF = 0.5
# What the checks are to reach.
FOUND, FIRST, IN_TWO, CLEAN_STOPS, CLEAN_WATCHES = 0.95, 0.80, 0.95, 0.02, 0.10


def document(tally: Tally) -> dict[str, Any]:
    """The counts: by fault, engine and size; of the sound runs; false alarms by check; how the goals are met."""
    clean = tally.clean()
    return {
        "faults": [
            {
                "fault": fault,
                "engine": engine,
                "size": size,
                "runs": len(each),
                "found": sum(o.found for o in each),
                "cause_first": sum(o.place == 1 for o in each),
                "cause_in_two": sum(o.place in (1, 2) for o in each),
            }
            for (fault, engine, size), each in tally.faulty().items()
        ],
        "clean": {
            "runs": len(clean),
            "stops": sum(bool(o.stops) for o in clean),
            "watches": sum(bool(o.watches) and not o.stops for o in clean),
        },
        "false_alarms": dict(sorted(Counter(c for o in clean for c in (*o.stops, *o.watches)).items())),
        "smallest_found": smallest_found(tally),
        "reached": {k: v if v == v else None for k, v in reached(tally).items()},
    }


def smallest_found(tally: Tally) -> dict[str, dict[str, float | None]]:
    """By fault and engine the smallest size from which on every run of it was found; None where there is none."""
    found: dict[str, dict[str, float | None]] = {}
    for (fault, engine, size), each in sorted(tally.faulty().items(), key=lambda item: -item[0][2]):
        held = found.setdefault(fault, {})
        broken = engine in held and held[engine] is None
        if all(o.found for o in each) and not broken:
            held[engine] = size
        elif engine not in held:
            held[engine] = None
    return dict(sorted(found.items()))


def reached(tally: Tally) -> dict[str, float]:
    """The shares that are to be reached; of faults those at half size or more."""
    half = [o for (_, _, size), each in tally.faulty().items() if size >= HALF for o in each]
    clean = tally.clean()
    return {
        "found": _share(half, lambda o: o.found),
        "cause_first": _share(half, lambda o: o.place == 1),
        "cause_in_two": _share(half, lambda o: o.place in (1, 2)),
        "clean_stops": _share(clean, lambda o: bool(o.stops)),
        "clean_watches": _share(clean, lambda o: bool(o.watches)),
    }


def _share(outcomes: list[Outcome], holds: Any) -> float:
    return sum(map(holds, outcomes)) / len(outcomes) if outcomes else float("nan")


def goals_met(tally: Tally) -> bool:
    """Whether all of it is reached; False where nothing was tried."""
    r = reached(tally)
    return (
        r["found"] > FOUND
        and r["cause_first"] > FIRST
        and r["cause_in_two"] > IN_TWO
        and r["clean_stops"] <= CLEAN_STOPS
        and r["clean_watches"] <= CLEAN_WATCHES
    )


def page(tally: Tally, more: Iterable[str] = ()) -> str:
    """The same as a page in Markdown, with what else is proved (`checks_proof.lines`) behind it."""
    r, clean, smallest = reached(tally), tally.clean(), smallest_found(tally)
    lines = [
        "# What the checks find",
        "",
        f"Made by `yarvic campaign checks --seeds {len(tally.outcomes)} --report docs/checks.md`. Every second run is of"
        f" a sound engine. Each run is {PULLS} pulls, held against {PULLS} pulls of the sound engine on its home day; the"
        f" day lies {LEAST_K:+.0f} to {MOST_K:+.0f} K and up to {PRESSURE_SHARE * 100:.0f} % of the barometer away from"
        " it. One log in four is as it was recorded, the others went through a logger's dialect (100, 20 or 50 Hz; other"
        " names and units).",
        "",
        "| of faults at half size or more | reached | goal |",
        "|---|---|---|",
        f"| found in the family where they belong | {r['found'] * 100:.1f} % | over {FOUND * 100:.0f} % |",
        f"| true cause first | {r['cause_first'] * 100:.1f} % | over {FIRST * 100:.0f} % |",
        f"| true cause among the first two | {r['cause_in_two'] * 100:.1f} % | over {IN_TWO * 100:.0f} % |",
        "",
        "| of sound engines | reached | goal |",
        "|---|---|---|",
        f"| runs with a stop | {r['clean_stops'] * 100:.1f} % of {len(clean)} | at most {CLEAN_STOPS * 100:.0f} % |",
        f"| runs with anything to watch | {r['clean_watches'] * 100:.1f} % | at most {CLEAN_WATCHES * 100:.0f} % |",
        "",
        "## By fault",
        "",
        "Found and cause first, of so many runs; sizes are shares of the full fault (what that is: the bench's page).",
        "",
        "| fault | engine | a quarter | half | full | smallest found |",
        "|---|---|---|---|---|---|",
    ]
    faulty = tally.faulty()
    for fault, engine in sorted({(f, e) for f, e, _ in faulty}):
        cells = []
        for size in (0.25, 0.5, 1.0):
            each = faulty.get((fault, engine, size), [])
            found, first = sum(o.found for o in each), sum(o.place == 1 for o in each)
            cells.append(f"{found} and {first} of {len(each)}" if each else "none tried")
        least = smallest[fault][engine]
        lines.append(
            f"| {FAULTS[fault].title} | {engine} | {' | '.join(cells)} | {'none' if least is None else f'{least:g}'} |"
        )
    lines += [
        "",
        "## False alarms",
        "",
        "Sound runs in which a check did not pass.",
        "",
        "| check | runs |",
        "|---|---|",
    ]
    alarms = Counter(c for o in clean for c in (*o.stops, *o.watches))
    lines += [f"| {check} | {count} of {len(clean)} |" for check, count in sorted(alarms.items())] or ["| none | 0 |"]
    lines += [
        "",
        "What knock control takes off on a warm day is no false alarm of the check: the engine does knock there. It is"
        " counted all the same.",
        "",
        *more,
    ]
    return "\n".join(lines)
