"""What else the page of the checks proves: two faults at once, broken sensors, and intervals over several days."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from itertools import combinations
from random import Random

import numpy as np

from yarvic.bench.faults import FAULTS
from yarvic.bench.rig import usual_settings
from yarvic.bench.vehicles import plant_for
from yarvic.core.checks.against_baseline import kind_of
from yarvic.core.checks.causes import causes
from yarvic.core.checks.finding import PASS, Finding, Where
from yarvic.core.checks.limits import default_limits
from yarvic.core.checks.run import check_log
from yarvic.core.checks.weather import Days, Measured, on_the_days
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.days import DAY_SHARE, fit_days
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.pulls import find_pulls
from yarvic.core.physics import BoolArray, FloatArray
from yarvic.core.physics.air import Air
from yarvic.demo.checks_campaign import (
    BELONGS,
    HOME,
    LEAST_K,
    MOST_K,
    PRESSURE_SHARE,
    PULLS,
    _layout,
    _rig,
    baseline,
    engine_kind,
)
from yarvic.demo.mended import VEHICLES

PAIR_SIZE = 0.75  # of the full fault, each of the two
LISTED = 4  # causes that are looked at
# Faults that change what the maps ask for are told by the image, and have no baseline of the same maps.
OF_THE_IMAGE = ("wrong_image",)


@dataclass(frozen=True)
class Pair:
    """Two faults at once on one engine: which of them were listed, whether the first cause is one, and what was left."""

    engine: str
    faults: tuple[str, str]
    listed: tuple[bool, bool]
    first: bool
    said: bool  # both listed, or said that signs are left which nothing listed explains


def pairs(seeds: Iterable[int]) -> list[Pair]:
    """Every pair of faults of every engine has its seed; further ones begin anew on other days."""
    every = [(e, p) for e in VEHICLES for p in combinations(_faults_of(e), 2)]
    return [_pair(*every[seed % len(every)], seed) for seed in seeds]


def count_of_pairs() -> int:
    """How many pairs there are."""
    return sum(len(list(combinations(_faults_of(e), 2))) for e in VEHICLES)


def _faults_of(engine: str) -> list[str]:
    kind = plant_for(_layout(engine).family).kind
    return [f.key for f in FAULTS.values() if kind in f.kinds and f.key not in OF_THE_IMAGE]


def _pair(engine: str, faults: tuple[str, str], seed: int) -> Pair:
    random, home = Random(seed), HOME[engine]
    air = Air(
        home.pressure_pa * (1.0 + random.uniform(-PRESSURE_SHARE, PRESSURE_SHARE)),
        home.temperature_k + random.uniform(LEAST_K, MOST_K),
        home.relative_humidity,
    )
    rig = _rig(engine, air, 5000 + seed, dict.fromkeys(faults, PAIR_SIZE))
    kind = engine_kind(engine)
    pulls = []
    for place in range(PULLS):
        log, conditions = rig.pull(usual_settings(rig.plant))
        by = replace(baseline(engine), place=place)
        pulls += check_log("campaign", log, default_limits(), conditions, kind, baseline=by)
    found = causes([f for p in pulls for f in p.findings], [p.off for p in pulls], kind_of(kind))
    keys = [c.key for c in found.ranked]
    listed = tuple(any(k in BELONGS[fault][1] for k in keys[:LISTED]) for fault in faults)
    first = bool(keys) and any(keys[0] in BELONGS[fault][1] for fault in faults)
    return Pair(engine, faults, (listed[0], listed[1]), first, all(listed) or bool(found.unexplained))


# -- sensors

# Channels that a verdict hangs on, and how a sensor breaks. A verdict is one that names the channel as its place.
JUDGED = (
    "boost_pressure", "lambda_measured", "rail_pressure", "exhaust_temperature", "charge_temperature", "feed_pressure",
    "airbox_pressure", "smoke", "coolant_temperature", "oil_temperature", "supply_voltage",
)  # fmt: skip
# Of these the lower end hides what is wrong.
FALLS = ("rail_pressure", "feed_pressure", "supply_voltage", "airbox_pressure")
OF_THE_SENSOR = ("sensor_still",)  # says of a sensor itself, and not of the engine
BROKEN = ("stands still", "stands still from half way on", "lies on its end", "half of it is missing")


@dataclass(frozen=True)
class Sensor:
    """One broken sensor on a sound engine: how many verdicts rest on it, and which of them pass all the same."""

    engine: str
    channel: str
    kind: str
    verdicts: int
    silent: tuple[str, ...]


def sensors() -> list[Sensor]:
    """Every judged channel of every engine, broken in every way."""
    found = []
    for engine in VEHICLES:
        rig = _rig(engine, HOME[engine], 77, {})
        log, conditions = rig.pull(usual_settings(rig.plant))
        sound = _verdicts(log, conditions, engine)
        for key in JUDGED:
            mine = {
                check
                for check, (severity, channel) in sound.items()
                if channel == key and severity == PASS and check not in OF_THE_SENSOR
            }
            if not mine:
                continue
            for kind in BROKEN:
                now = _verdicts(_with(log, key, kind), conditions, engine)
                silent = tuple(sorted(c for c in mine if now.get(c, ("", ""))[0] == PASS))
                found.append(Sensor(engine, key, kind, len(mine), silent))
    return found


def _verdicts(log: Log, conditions: Conditions, engine: str) -> Mapping[str, tuple[str, str]]:
    pulls = check_log("campaign", log, default_limits(), conditions, engine_kind(engine), baseline=baseline(engine))
    return {f.check: (f.severity, f.where.channel or "") for f in pulls[0].findings}


def _with(log: Log, key: str, kind: str) -> Log:
    channel, pull = log.channels[key], find_pulls(log)[0]
    inside = (channel.time_s >= pull.start_s) & (channel.time_s <= pull.end_s)
    values = _broken(channel.values, inside, kind, falls=key in FALLS)
    return replace(log, channels={**log.channels, key: replace(channel, values=values)})


def _broken(values: FloatArray, inside: BoolArray, kind: str, *, falls: bool) -> FloatArray:
    """The samples of a channel as its sensor would have given them, broken in a pull."""
    made, at = values.copy(), np.flatnonzero(inside)
    half = at[at.size // 2]
    if kind == "stands still":
        made[:] = values[at[0]]
    elif kind == "stands still from half way on":
        made[half:] = values[half]
    elif kind == "lies on its end":
        # So that it lies there for most of the pull, as one does whose range is too small.
        level = float(np.nanquantile(values[inside], 0.8 if falls else 0.2))
        made = np.maximum(made, level) if falls else np.minimum(made, level)
    else:
        made[half:] = np.nan
    return made


# -- days

DESIGNS: Mapping[str, tuple[tuple[int, ...], tuple[int, ...]]] = {
    "one day": ((0, 0, 0), (0, 0, 0)),
    "each on its day": ((0, 0, 0), (1, 1, 1)),
    "reference on two days": ((0, 0, 0, 1, 1, 1), (2, 2, 2)),
    "both on both days": ((0, 0, 0, 1, 1, 1), (0, 0, 0, 1, 1, 1)),
    "four days": ((0, 0, 0, 2, 2, 2), (1, 1, 1, 3, 3, 3)),
}
DRAWS, NOISE_SHARE, DRIFT_SHARE = 2000, 0.004, -0.002


def coverage(seed: int = 7, draws: int = DRAWS) -> dict[str, tuple[float, float]]:
    """By design: how often the interval of a gain at 95 % holds the truth, and how often no gain is called one."""
    rng, found = np.random.default_rng(seed), {}
    for name, design in DESIGNS.items():
        held = called = 0
        for _ in range(draws):
            fit = fit_days(*_drawn(rng, *design), 0.95)
            if fit is not None:
                held += abs(fit.difference) <= fit.reach
                called += abs(fit.difference) > fit.reach
        found[name] = held / draws, called / draws
    return found


def _drawn(
    rng: np.random.Generator, reference: tuple[int, ...], working: tuple[int, ...]
) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
    """Values of pulls without any gain, with their map, place and day; days, noise and drift as shares."""
    session = np.array([*reference, *working], dtype=np.float64)
    second = np.array([0.0] * len(reference) + [1.0] * len(working))
    place = np.array([float(np.sum(session[:i] == day)) for i, day in enumerate(session)])
    days = {day: rng.normal(0.0, DAY_SHARE) for day in np.unique(session)}
    value = 1.0 + np.array([days[day] for day in session]) + DRIFT_SHARE * place
    return value + rng.normal(0.0, NOISE_SHARE, value.size), second, place, session


# Air temperatures in K of the days that were pulled on, three pulls each, and of the day that is asked about.
WEATHER: Mapping[str, tuple[tuple[float, ...], float]] = {
    "one day, asked about one like it": ((290.0,), 290.0),
    "two days, like one of them": ((283.0, 298.0), 283.0),
    "three days, like one of them": ((283.0, 290.0, 298.0), 290.0),
    "four days, like one of them": ((280.0, 286.0, 292.0, 298.0), 292.0),
    "two days, 8 K hotter": ((283.0, 300.0), 308.0),
    "three days, 8 K hotter": ((283.0, 290.0, 300.0), 308.0),
    "four days, 8 K hotter": ((283.0, 288.0, 294.0, 300.0), 308.0),
}
PER_KELVIN = 0.002  # a share of what is measured


def weather_coverage(seed: int = 9, draws: int = DRAWS) -> dict[str, float]:
    """By days pulled on: how often the interval at 95 % of a day holds what a single pull on such a day brings."""
    rng, rule = np.random.default_rng(seed), default_limits().rules["exhaust_temperature"]
    shares = {}
    for name, (days, asked_k) in WEATHER.items():
        held = 0
        for _ in range(draws):
            runs = []
            for t in days:
                of_day = 1.0 + PER_KELVIN * (t - asked_k) + rng.normal(0.0, DAY_SHARE)
                for value in of_day + rng.normal(0.0, NOISE_SHARE, 3):
                    finding = Finding("exhaust_temperature", PASS, "", rule, value, Where("pull", 0.0, 1.0))
                    runs.append(Measured((finding,), t, 97e3))
            (told,) = on_the_days(Days(hottest_k=asked_k), runs)
            assert told.low is not None and told.high is not None
            held += told.low <= 1.0 + rng.normal(0.0, DAY_SHARE) + rng.normal(0.0, NOISE_SHARE) <= told.high
        shares[name] = held / draws
    return shares


def lines(
    found: list[Pair],
    broken: list[Sensor],
    held: Mapping[str, tuple[float, float]],
    weather: Mapping[str, float],
    draws: int = DRAWS,
) -> list[str]:
    """The same in Markdown."""
    out = ["## Two faults at once", ""]
    if found:
        first, both, said = (
            sum(f(p) for p in found) for f in (lambda p: p.first, lambda p: all(p.listed), lambda p: p.said)
        )
        out += [
            f"Every pair of faults of every engine, each of {PAIR_SIZE:g} of its full size, on a day of its own.",
            "",
            "| of pairs | reached |",
            "|---|---|",
            f"| the first cause is one of the two | {first} of {len(found)} |",
            f"| both among the first {LISTED} | {both} of {len(found)} |",
            f"| both, or signs said that nothing named explains | {said} of {len(found)} |",
            "",
            "The others are pairs of which one leaves no sign that the other does not leave as well, or takes it back: a"
            " mixture made rich by the maps and lean by an injector. Not listed:",
            "",
            "| fault | beside | engine |",
            "|---|---|---|",
        ]
        for p in found:
            for mine, other, there in ((*p.faults, p.listed[0]), (*p.faults[::-1], p.listed[1])):
                if not there:
                    out.append(f"| {FAULTS[mine].title} | {FAULTS[other].title} | {p.engine} |")
    out += [
        "",
        "## Broken sensors",
        "",
        "Sound engines of which one sensor is broken, pull by pull: verdicts that rest on it, and those that pass all the"
        " same.",
        "",
        "| channel | how it is broken | verdicts | pass in silence |",
        "|---|---|---|---|",
    ]
    for channel in JUDGED:
        for kind in BROKEN:
            each = [s for s in broken if s.channel == channel and s.kind == kind]
            if each:
                silent = sorted({f"{c} ({s.engine})" for s in each for c in s.silent})
                out.append(
                    f"| {channel} | {kind} | {sum(s.verdicts for s in each)} | {', '.join(silent) or 'none'} |"
                )
    out += [
        "",
        "Coolant, oil and supply that show one number through a log this short are what sound sensors with coarse steps show"
        " as well: over longer driving it is told. So it is with the charge of an engine without a compressor.",
        "",
        "## Days",
        "",
        f"{draws:,} draws of each design without any gain: pulls scatter by {NOISE_SHARE * 100:g} %, days by"
        f" {DAY_SHARE * 100:g} %, and each pull loses {-DRIFT_SHARE * 100:g} %.",
        "",
        "| pulls | the interval at 95 % holds the truth | no gain is called one |",
        "|---|---|---|",
        *(f"| {name} | {share * 100:.1f} % | {called * 100:.1f} % |" for name, (share, called) in held.items()),
        "",
        "What a finding comes to in other weather: three pulls a day, with that scatter of pulls and days, and"
        f" {PER_KELVIN * 100:g} % a kelvin.",
        "",
        "| pulls | the interval at 95 % holds a pull on such a day |",
        "|---|---|",
        *(f"| {name} | {share * 100:.1f} % |" for name, share in weather.items()),
        "",
    ]
    return out
