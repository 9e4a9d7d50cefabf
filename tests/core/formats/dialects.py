"""Runs with known truth, written as loggers of any habit would write them; and how well each column was read.

As a program it reads columns by the thousand and prints the table of docs/reading-logs.md.
"""

import random
import sys
import tempfile
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from yarvic.core.errors import FormatError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.dictionary import dictionary
from yarvic.core.formats.logs.import_log import import_logs
from yarvic.core.units import UNITS, from_canonical

# What may be asked, and where a wrong number would hurt: no column of these is ever wrong without being asked.
HURTS = ("pressure", "mixture", "temperature", "angle")
UNITS_OF = {
    "pressure": ("kPa", "bar", "mbar", "psi", "inHg", "hPa"), "temperature": ("degC", "degF", "K"),
    "ratio": ("%", "fraction"), "angle": ("deg",), "engine speed": ("rpm",), "mixture": ("lambda", "AFR"),
    "speed": ("km/h", "mph"), "mass flow": ("g/s", "kg/h", "lb/min"), "voltage": ("V",),
}  # fmt: skip
WRITTEN = {
    "degC": ("°C", "C", "degC", "deg C", "Celsius"), "degF": ("°F", "F", "degF"), "K": ("K",), "%": ("%", "pct"),
    "deg": ("°", "deg", "°CA", "deg BTDC", "°KW"), "rpm": ("rpm", "1/min", "U/min", "RPM"), "lambda": ("lambda", "λ", "-"),
    "AFR": ("AFR", "A/F", ":1"), "hPa": ("hPa",), "fraction": ("fraction", "-", "ratio"), "V": ("V", "volts"),
}  # fmt: skip


@dataclass
class Written:
    """A column as it was written: the truth in canonical units, and what of it stands in the header."""

    key: str
    name: str
    unit: str
    states_unit: bool
    reference: str
    states_reference: bool
    sign: int
    truth: np.ndarray
    shown: np.ndarray = field(default_factory=lambda: np.empty(0))


def run(r: random.Random) -> dict[str, np.ndarray]:
    """One drive with a pull, in canonical units: petrol or diesel, with a turbo or without, in any weather."""
    rate = r.choice([5, 10, 20, 25, 50, 100])
    lead, length = r.choice([0.0, 0.5, 2.0, 8.0]), r.uniform(3.0, 12.0)
    t = np.arange(0.0, lead + length + r.choice([0.0, 1.0, 3.0]), 1.0 / rate)
    rng = np.random.default_rng(r.randrange(2**32))
    pulling = (t >= lead) & (t <= lead + length)
    share = np.clip((t - lead) / length, 0.0, 1.0)
    diesel, turbo = r.random() < 0.25, r.random() < 0.75
    low, high = (1200, r.uniform(3600, 4600)) if diesel else (r.uniform(1500, 2800), r.uniform(5500, 11000))
    speed = np.where(pulling, low + (high - low) * share, np.where(t < lead, low, low + 300))
    if r.random() < 0.2 and lead > 1:
        speed[t < 0.7] = 0.0  # logged from before the engine ran
    part = r.uniform(0.0, 0.3)
    throttle = np.where(pulling, 1.0, part)
    throttle = np.where(speed == 0.0, 0.0, throttle)
    barometer = r.uniform(70e3, 104e3)
    peak = r.uniform(30e3, 220e3) if turbo else -r.uniform(1e3, 6e3)
    build = np.clip(share * r.uniform(1.5, 6.0), 0.0, 1.0)
    shut = barometer if diesel else r.uniform(25e3, 60e3)
    manifold = np.where(pulling, barometer - 3e3 + build * (peak + 3e3), shut + (5e3 if diesel else 0.0))
    manifold = np.where(speed < 50.0, barometer, manifold) + rng.normal(0.0, 600.0, t.size)
    target = np.where(pulling, barometer + max(peak, 0.0), manifold)
    ambient = r.uniform(258.0, 312.0)
    charge = ambient + r.uniform(3.0, 25.0) + share * r.uniform(3.0, 40.0)
    coolant = np.full(t.size, r.uniform(345.0, 375.0) if r.random() < 0.85 else r.uniform(275.0, 330.0))
    mixture = np.where(pulling, r.uniform(1.1, 1.5) if diesel else r.uniform(0.76, 0.93), 1.0 if not diesel else 2.5)
    mixture = mixture + rng.normal(0.0, 0.006, t.size)
    knocks = (rng.random(t.size) < 0.03) & pulling if r.random() < 0.6 else np.zeros(t.size, bool)
    retard = np.where(knocks, r.uniform(1.0, 6.0), 0.0)
    return {
        "time": t,
        "engine_speed": speed + rng.normal(0.0, 4.0, t.size) * (speed > 0),
        "throttle": throttle,
        "boost_pressure": manifold,
        "boost_target": target,
        "charge_temperature": charge + rng.normal(0, 0.1, t.size),
        "coolant_temperature": coolant,
        "oil_temperature": coolant + r.uniform(-8.0, 25.0) + share,
        "exhaust_temperature": np.where(pulling, 700.0 + share * r.uniform(250.0, 480.0), 650.0),
        "lambda_measured": mixture,
        "lambda_target": np.where(pulling, np.round(np.median(mixture[pulling]), 2), 1.0 if not diesel else 2.5),
        "spark_advance": np.where(pulling, r.uniform(2.0, 12.0) + share * r.uniform(5.0, 25.0), r.uniform(8.0, 35.0)),
        "spark_correction_2": -retard,
        "ambient_pressure": np.full(t.size, barometer),
        "ambient_temperature": np.full(t.size, ambient),
        "rail_pressure": np.where(pulling, 60e5 + share * r.uniform(80e5, 1500e5 if diesel else 250e5), 50e5),
        "supply_voltage": np.full(t.size, r.uniform(12.2, 14.8)),
        "air_flow": 0.004 + share * r.uniform(0.05, 0.4),
        "vehicle_speed": speed / high * r.uniform(20.0, 70.0),
    }  # fmt: skip


def columns_of(r: random.Random, truth: dict[str, np.ndarray]) -> list[Written]:
    """Some of the channels, each with a name, a unit, a zero and a sign of its own, which its header says or keeps."""
    words = dictionary().words
    keys = [k for k in truth if k != "time" and (k in ("engine_speed", "throttle") or r.random() < 0.75)]
    r.shuffle(keys)
    system = {q: r.choice(us) for q, us in UNITS_OF.items()}
    alike, says_units = r.random() < 0.7, r.random()
    found = []
    for key in keys:
        kind = CHANNELS[key]
        unit = system[kind.quantity] if alike else r.choice(UNITS_OF[kind.quantity])
        each = words[kind.family if kind.family in words else key]
        pool = [n for names in each.names.values() for n in names]
        sign = 1
        if kind.family == "spark_correction":
            if r.random() < 0.6:
                pool, sign = [n for names in each.counted_down.values() for n in names], -1
            name = r.choice(["{} cyl 2", "{} cylinder 2", "{} 2", "cyl 2 {}"]).format(r.choice(pool))
            sign = sign if r.random() < 0.8 else -sign
        else:
            name = r.choice(pool)
        reference = r.choice(["absolute", "gauge"]) if key in ("boost_pressure", "boost_target") else ""
        if key == "boost_target" and alike:
            reference = next((c.reference for c in found if c.key == "boost_pressure"), reference)
        if reference and any(w in name for w in ("gauge", "relative", "absolut")):
            reference = "absolute" if "absolut" in name else "gauge"
        found.append(Written(key, name, unit, r.random() < says_units, reference, r.random() < 0.4, sign, truth[key]))
    barometer = truth["ambient_pressure"][0]
    for c in found:
        c.shown = shown(c, barometer)
    return found


def shown(c: Written, barometer: float) -> np.ndarray:
    """The numbers of a column as its logger counts them."""
    values = c.truth - (barometer if c.reference == "gauge" else 0.0)
    if c.unit == "AFR":
        return values * 14.7
    label = "mbar" if c.unit == "hPa" else c.unit
    digits = 4 if c.unit in ("bar", "fraction", "lambda", "MPa") else 2
    return np.round(np.asarray(from_canonical(values, label)), digits) * c.sign


def header(r: random.Random, c: Written, style: str) -> tuple[str, str]:
    """Name and unit of a column in one of the styles of loggers; empty where they are not said."""
    name = r.choice([c.name, c.name.title(), c.name.upper(), c.name.replace(" ", "_")])
    if not c.states_unit:
        return name, ""
    unit = r.choice(WRITTEN.get(c.unit, (c.unit,)))
    if c.reference and c.states_reference:
        unit += {"absolute": r.choice([" abs", "(a)", "a"]), "gauge": r.choice([" gauge", "(g)", "g"])}[c.reference]
    return {
        "brackets": (f"{name} [{unit}]", ""), "parentheses": (f"{name} ({unit})", ""), "below": (name, unit),
        "comma": (f"{name}, {unit}", ""), "in": (f"{name} in {unit}", ""),
    }[style]  # fmt: skip


def write(r: random.Random, path: Path, truth: dict[str, np.ndarray], columns: list[Written]) -> None:
    """A text in a dialect drawn at random; none of them says less than some logger does."""
    separator = r.choice([",", ";", "\t", "|"])
    comma = separator != "," and r.random() < 0.5
    style = r.choice(["brackets", "parentheses", "below", "below", "in", "comma"])
    if style == "comma" and separator == ",":
        style = "brackets"
    heads = [header(r, c, style) for c in columns]
    in_ms = r.random() < 0.4
    time_name, time_unit = r.choice([("Time", "ms" if in_ms else "s"), ("Zeit", "ms" if in_ms else "s")])
    if style == "below":
        names, units = [time_name, *(n for n, _ in heads)], [time_unit, *(u for _, u in heads)]
    else:
        names, units = [f"{time_name} ({time_unit})", *(n for n, _ in heads)], []
    lines = [f"# log {r.randrange(999)}", ""] if r.random() < 0.3 else []
    lines.append(separator.join(f'"{n}"' if separator in n else n for n in names))
    if any(units):
        lines.append(separator.join(units))
    stamps = truth["time"] * (1000.0 if in_ms else 1.0)
    table = np.column_stack([stamps, *(c.shown for c in columns)])
    for row in table:
        text = separator.join(f"{v:.10g}" for v in row)
        lines.append(text.replace(".", ",") if comma else text)
    end = r.choice(["\n", "\r\n"])
    text = end.join(lines) + end
    for encoding in r.sample(["utf-8", "utf-8-sig", "utf-16", "cp1252"], 4):
        try:
            path.write_bytes(text.encode(encoding))
            return
        except UnicodeEncodeError:
            continue
    path.write_bytes(text.encode("utf-8"))


def scored(path: Path, columns: list[Written], seed: int) -> list[tuple[Written, str, str]]:
    """For each column: right, asked, left (not understood), or wrong; with what was made of it."""
    try:
        logs = import_logs(path)
    except FormatError as error:
        return [(c, "refused", str(error)) for c in columns]
    assert len(logs) == 1, (seed, [x.part for x in logs])
    found = logs[0]
    results = []
    for c, meant in zip(columns, found.understood.columns, strict=True):
        said = f"{meant.name!r} -> {meant.channel} {meant.unit_in_words} x{meant.sign} ({meant.reason}; {meant.question})"
        channel = found.log.channels.get(meant.channel) if meant.channel else None
        if channel is None:
            results.append((c, "left", said))
        elif channel.doubt is not None:
            results.append((c, "asked", f"{said} {channel.doubt.sentence}"))
        else:
            size = float(np.abs(c.truth).max())
            same = np.allclose(channel.values, c.truth, atol=0.006 * size + 1e-9)
            right = channel.key.startswith(CHANNELS[c.key].family) and same
            results.append((c, "right" if right else "wrong", said))
    return results


def one(seed: int, path: Path) -> list[tuple[Written, str, str]]:
    """A run written and read back by its number."""
    r = random.Random(seed)
    truth = run(r)
    columns = columns_of(r, truth)
    write(r, path, truth, columns)
    return scored(path, columns, seed)


def table(count: int) -> tuple[list[str], list[str]]:
    """The lines of the table, by quantity and by what the header says; and what was wrong."""
    counts: dict[tuple[str, str], Counter[str]] = {}
    wrong = []
    with tempfile.TemporaryDirectory() as folder:
        for seed in range(count):
            for c, how, said in one(seed, Path(folder) / "a.csv"):
                whole = c.states_unit and (not c.reference or c.states_reference)
                says = "unit and zero" if whole else "unit, zero open" if c.states_unit else "nothing"
                counts.setdefault((CHANNELS[c.key].quantity, says), Counter())[how] += 1
                if how in ("wrong", "refused"):
                    wrong.append(f"{seed} {c.key} {c.unit} {c.reference}: {how} {said}")
    lines = [
        "| quantity | the header says | columns | right | asked | left aside | wrong |",
        "|---|---|---|---|---|---|---|",
    ]
    for (quantity, says), n in sorted(counts.items()):
        total = sum(n.values())
        shares = " | ".join(f"{n[k] / total:.1%}" for k in ("right", "asked", "left", "wrong"))
        lines.append(f"| {quantity} | {says} | {total:,} | {shares} |")
    return lines, wrong


if __name__ == "__main__":
    made, faults = table(int(sys.argv[1]) if len(sys.argv) > 1 else 400)
    print("\n".join(made))
    print("\n".join(faults[:60]), file=sys.stderr)
    assert all(u in UNITS for us in UNITS_OF.values() for u in us if u not in ("AFR", "hPa"))
