"""Runs with known truth, each hurt by one habit of a logger or one fault of a file: what comes of the hurt column, and of
the others. Prints the second table of docs/reading-logs.md and how often what was taken by odds was right:

python -m tests.core.formats.habits [cases] [first seed]
"""

import random
import sys
import tempfile
import warnings
from collections import Counter
from pathlib import Path

import numpy as np

from tests.core.formats.dialects import Written, columns_of, run, scored, write
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.formats.logs.import_log import import_logs

QUANTITY = {k: c.quantity for k, c in CHANNELS.items()}


def of(columns, *quantities):
    return [c for c in columns if QUANTITY[c.key] in quantities]


def moving(columns, *quantities):
    """Those that a sensor may show in volts: one number all along tells nothing."""
    return [c for c in of(columns, *quantities) if np.ptp(c.truth) > 0.02 * np.abs(c.truth).max()]


def unsaid(c, shown):
    """The column with other numbers, of which its header says nothing."""
    c.shown, c.states_unit = shown, False
    return [c]


def a_row_of_zeros(r, truth, columns):
    for _ in range(r.choice([1, 1, 2])):
        row = r.randrange(truth["time"].size)
        for c in columns:
            c.shown[row] = 0.0
    return of(columns, "pressure")


def dropouts_of_speed(r, truth, columns):
    speed = next(c for c in columns if c.key == "engine_speed")
    for _ in range(r.randint(1, 4)):
        row = r.randrange(truth["time"].size)
        rows = slice(row, row + r.randint(1, 2))
        speed.shown[rows] = 0.0
        speed.truth = speed.truth.copy()
        speed.truth[rows] = np.nan
    return of(columns, "pressure")


def a_spike_of_pressure(r, truth, columns):
    hurt = [c for c in columns if c.key == "boost_pressure"]
    for c in hurt:
        c.shown[r.randrange(truth["time"].size)] *= r.choice([-1.0, 3.0, 10.0])
    return hurt


def in_tenths(r, truth, columns):
    whole = [c for c in of(columns, "temperature", "ratio", "engine speed", "speed", "angle") if c.unit != "fraction"]
    c = r.choice(whole)
    return unsaid(c, np.round(c.shown * 10.0))


def speed_in_tens(r, truth, columns):
    return unsaid(next(c for c in columns if c.key == "engine_speed"), truth["engine_speed"] / 10.0)


def in_volts(r, truth, columns):
    c = r.choice(moving(columns, "pressure", "ratio", "mixture", "temperature"))
    low, high = float(c.shown.min()), float(c.shown.max())
    begin, end = r.uniform(0.3, 1.0), r.uniform(2.5, 4.8)
    return unsaid(c, np.round(begin + (c.shown - low) / max(high - low, 1e-9) * (end - begin), 3))


def in_counts(r, truth, columns):
    c = r.choice(moving(columns, "pressure", "ratio", "mixture"))
    low, high = float(c.shown.min()), float(c.shown.max())
    most = r.choice([255, 1023, 4095])
    return unsaid(c, np.round((0.05 + 0.85 * (c.shown - low) / max(high - low, 1e-9)) * most))


def as_phi(r, truth, columns):
    hurt = of(columns, "mixture")
    for c in hurt:
        measured = c.key == "lambda_measured"
        c.name = r.choice(["mixture", "air fuel mixture"] if measured else ["mixture target", "target mixture"])
        unsaid(c, np.round(1.0 / c.truth, 3))
    return hurt


def another_unit_than_stated(r, truth, columns):
    c = r.choice(of(columns, "pressure", "temperature", "speed"))
    c.states_unit = True
    c.unit = {"kPa": "psi", "psi": "kPa", "degC": "degF", "degF": "degC", "km/h": "mph", "mph": "km/h"}.get(
        c.unit, c.unit
    )
    return [c]


def retard_with_a_few_of_the_other_sign(r, truth, columns):
    hurt = [c for c in columns if c.key == "spark_correction_2"]
    for c in hurt:
        rows = [r.randrange(truth["time"].size) for _ in range(r.randint(1, 4))]
        c.shown = np.round(-c.truth * 1.0, 2)
        c.shown[rows] -= r.uniform(0.3, 0.9)
        c.truth = c.truth.copy()
        c.truth[rows] = np.nan  # what these are is open
    return hurt


def an_empty_twin(r, truth, columns):
    c = r.choice(of(columns, "pressure", "temperature", "mixture"))
    twin = Written(c.key, c.name, c.unit, c.states_unit, c.reference, c.states_reference, c.sign, c.truth.copy())
    twin.shown = np.full(c.shown.shape, np.nan)
    twin.truth = twin.shown
    at = next(n for n, x in enumerate(columns) if x is c)
    columns.insert(at + r.randint(0, 1), twin)
    return [c]


def knots_and_pounds(r, truth, columns):
    hurt = of(columns, "speed", "mass flow")
    for c in hurt:
        c.unit, factor = ("kn", 3600.0 / 1852.0) if QUANTITY[c.key] == "speed" else ("lbs/min", 60.0 / 0.45359237)
        c.shown, c.states_unit = np.round(c.truth * factor, 3), True
    return hurt


HABITS = (
    a_row_of_zeros, dropouts_of_speed, a_spike_of_pressure, in_tenths, speed_in_tens, in_volts, in_counts, as_phi,
    another_unit_than_stated, retard_with_a_few_of_the_other_sign, an_empty_twin, knots_and_pounds,
)  # fmt: skip


def case(seed, path):
    """One hurt run: the habit, (column, outcome, what was said) of the hurt ones and of the rest, and the odds taken."""
    r = random.Random(seed)
    truth = run(r)
    columns = columns_of(r, truth)
    habit = HABITS[seed % len(HABITS)]
    try:
        hurt = habit(r, truth, columns)
    except IndexError:
        return habit, [], [], []
    write(r, path, truth, columns)
    with np.errstate(all="ignore"), warnings.catch_warnings():
        warnings.simplefilter("ignore", RuntimeWarning)  # a column without a number has no size
        found = scored(path, columns, seed)
    results = [(c, _forgiven(c, how, path), said) for c, how, said in found]
    odds = []
    logs = import_logs(path)
    for (c, how, _), meant in zip(results, logs[0].understood.columns, strict=True):
        if meant.how == "guessed" and not meant.question and how in ("right", "wrong"):
            odds.append((meant.confidence, how == "right", c.key))
    ids = {id(c) for c in hurt}
    known = [x for x in results if np.isfinite(x[0].truth).any()]
    return habit, [x for x in known if id(x[0]) in ids], [x for x in known if id(x[0]) not in ids], odds


def _forgiven(c, how, path):
    """A column is right where all but the few samples that were hurt are."""
    if how != "wrong":
        return how
    channel = next(
        (x for k, x in import_logs(path)[0].log.channels.items() if k.startswith(CHANNELS[c.key].family)), None
    )
    if channel is None or channel.values.shape != c.truth.shape:
        return how
    good = np.isfinite(c.truth) & np.isfinite(channel.values)
    if not good.any():
        return "left"
    near = np.abs(channel.values - c.truth)[good] <= 0.006 * float(np.nanmax(np.abs(c.truth))) + 1e-9
    return "right" if near.mean() > 0.9 and good.mean() > 0.5 else how


def table(cases, first=0):
    """The lines of both tables, and what was wrong in words."""
    hurt, rest, taken, wrong = {}, Counter(), [], []
    with tempfile.TemporaryDirectory() as folder:
        for seed in range(first, first + cases):
            habit, mine, others, odds = case(seed, Path(folder) / "a.csv")
            count = hurt.setdefault(habit.__name__.replace("_", " "), Counter())
            count["cases"] += 1
            count.update(how for _, how, _ in mine)
            rest.update(how for _, how, _ in others)
            taken += odds
            wrong += [
                f"{seed} {habit.__name__} {c.key} {c.unit}: {said}"
                for c, how, said in [*mine, *others]
                if how == "wrong"
            ]
    lines = [
        "| habit or fault | cases | columns | right | asked | left aside | wrong |",
        "|---|---|---|---|---|---|---|",
    ]
    for name, n in [*hurt.items(), ("the other columns of all of them", rest)]:
        total = max(sum(n[k] for k in ("right", "asked", "left", "wrong")), 1)
        shares = " | ".join(f"{n[k] / total:.1%}" for k in ("right", "asked", "left"))
        lines.append(f"| {name} | {n['cases'] or cases} | {total:,} | {shares} | {n['wrong']} |")
    lines += ["", "| odds that were told | columns | right |", "|---|---|---|"]
    for low, high in ((0.99, 0.999), (0.999, 0.9999), (0.9999, 1.01)):
        some = [right for odds, right, _ in taken if low <= odds < high]
        if some:
            named = f"{low:.2%} to {high:.2%}" if high < 1.0 else f"{low:.2%} and more"
            lines.append(f"| {named} | {len(some):,} | {sum(some) / len(some):.2%} |")
    return lines, wrong


if __name__ == "__main__":
    numbers = [int(a) for a in sys.argv[1:]]
    made, faults = table(*(numbers or [500]))
    print("\n".join(made))
    print("\n".join(faults[:60]), file=sys.stderr)
