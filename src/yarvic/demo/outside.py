"""Writes the files that come with Whinchat: its description and image, loggers' logs and dyno sheets, made on the bench so
that truth is known.

`python -m yarvic.demo.outside FOLDER` makes them anew; those that ship are in data/whinchat.
"""

from __future__ import annotations

import sys
import tomllib
from collections.abc import Mapping, Sequence
from dataclasses import replace
from importlib.resources import files
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import NamedTuple

import numpy as np

from yarvic.bench.cell import Weather
from yarvic.bench.plant import load_plant
from yarvic.bench.rig import Rig
from yarvic.bench.settings import PullSettings
from yarvic.bench.unit import SimulatedUnit
from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.image import pack
from yarvic.core.calibration.layout import Layout
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.calibration.table import Table
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.dyno import Curve, dyno_curve
from yarvic.core.evidence.log import Log
from yarvic.core.evidence.pulls import find_pulls
from yarvic.core.formats.descriptions import Taken, read_taken
from yarvic.core.formats.files import make_folder, write_whole
from yarvic.core.formats.images import to_text
from yarvic.core.formats.maps import maps_from_json
from yarvic.core.physics import FloatArray
from yarvic.core.physics.air import Air, isa_altitude, isa_pressure
from yarvic.core.physics.correction import correction
from yarvic.core.units import from_canonical
from yarvic.demo.foreign import gaps, unit, written

SLOT = "RON 95"
DESCRIPTION, COMPANION, IMAGE = "whinchat.a2l", "whinchat.toml", "whinchat.hex"
FRENCH, GAUGE, SPARSE, SHEET = "passage-1.csv", "a1-evening.csv", "a1-morning.csv", "pruefstand-a1.xlsx"
NOON, SHEET_2 = "a2-noon.csv", "pruefstand-a2.xlsx"
OF_THE_UNIT = (DESCRIPTION, COMPANION, IMAGE)
FILES = (*OF_THE_UNIT, FRENCH, GAUGE, SPARSE, SHEET, NOON, SHEET_2)
MILD, WARM, COOL = Air(97_310.0, 289.15, 0.55), Air(96_840.0, 299.65, 0.44), Air(97_650.0, 283.15, 0.62)
ALTITUDE_M = 330.0
PETROL_AFR = 14.599  # of petrol-95, by which the second logger shows its ratio
RUN = PullSettings(gear=4, start_rpm=1800.0, end_rpm=6400.0)


class Column(NamedTuple):
    """A column of a logger, as data/whinchat/loggers.toml states it."""

    key: str
    name: str
    words: str
    unit: str
    digits: int
    gauge: bool = False
    sign: int = 1
    rate_hz: float = 20.0


def shipped(name: str) -> bytes:
    """One of the files that ship with Whinchat."""
    return files("yarvic.demo").joinpath(f"data/whinchat/{name}").read_bytes()


def _logger(key: str) -> list[Column]:
    return [Column(**c) for c in tomllib.loads(shipped("loggers.toml").decode("utf-8"))[key]]


def bench_layout() -> Layout:
    """The layout under which the bench runs its maps; the wagon's own memory is another (`foreign`)."""
    return parse_layout(shipped("bench.toml").decode("utf-8"))


def taken() -> Taken:
    """What is known of the wagon's unit by its files: its description, and the image with which it came."""
    with TemporaryDirectory() as folder:
        for name in OF_THE_UNIT:
            Path(folder, name).write_bytes(shipped(name))
        return read_taken(Path(folder, COMPANION), Path(folder, IMAGE))


def _stock(layout: Layout) -> Calibration:
    """Its stock maps: those of a smaller engine with its own torque model, and torque that nothing limits early."""
    text = files("yarvic.bench").joinpath("data/ptarmigan_stock_ron95.json").read_text("utf-8")
    maps = maps_from_json(text.replace("ptarmigan-14", layout.family))
    limit = maps.table("torque_limit")
    per_filling = replace(maps.scalar("torque_per_filling"), value=213.0)
    maps = _changed(maps, [(_of_its_own(maps.table(k), by), "") for k, by in _WAVES.items()])
    return maps.with_table(limit.with_values(np.full_like(limit.values, 240.0))).with_scalar(per_filling)


# How far the wagon's maps lie off those of the engine they began from, in each table's unit: a wave over speed and load.
_WAVES = {"spark_advance": 1.7, "boost_target": 2.2, "cam_phase": 1.4, "lambda_target": 0.006}


def _of_its_own(table: Table, by: float) -> Table:
    """The table with numbers of its own: most at part load, a little at full load."""
    x, y = (np.linspace(0.0, 1.0, a.values.size) for a in (table.x, table.y))
    wave = np.sin(5.1 * x + 0.8)[None, :] * (1.0 - 0.75 * y)[:, None] - 0.3 * np.cos(3.3 * y)[:, None]
    return table.with_values(np.clip(np.round(table.values + by * wave, 1 if by > 0.1 else 3), table.low, table.high))


def more_boost(maps: Calibration, roles: Mapping[str, str]) -> list[tuple[Table, str]]:
    """What A1 changes: boost at full throttle, the limit that kept it down, and three degrees of spark too many.

    `roles` gives the table of each role by key.
    """
    boost, limit, spark = (maps.table(roles[r]) for r in ("boost_target", "torque_limit", "spark_advance"))
    full = (
        np.where(boost.y.values >= 90.0, 1.12, 1.0)[:, None] * np.where(boost.x.values >= 2000.0, 1.0, 0.94)[None, :]
    )
    return [
        (boost.with_values(np.clip(boost.values * full, boost.low, boost.high)), "boost at full throttle raised"),
        (limit.with_values(np.full_like(limit.values, 300.0)), "torque request limit to 300 N m"),
        (_under_load(spark, 3.0), "spark advanced by 3 deg under load"),
    ]


def gentler(maps: Calibration, roles: Mapping[str, str]) -> list[tuple[Table, str]]:
    """What A2 changes: the spark under load goes back, somewhat further than it came from; the top gets more fuel, for
    its exhaust ran hot enough to be cooled by it in the middle of a pull."""
    target, spark = maps.table(roles["lambda_target"]), maps.table(roles["spark_advance"])
    top = (target.x.values >= 5000.0)[None, :] & (target.y.values >= 120.0)[:, None]
    richer = np.clip(np.where(top, target.values - 0.03, target.values), target.low, target.high)
    return [
        (_under_load(spark, -4.0), "spark back by 4 deg under load"),
        (target.with_values(richer), "lambda target 0.03 richer from 5,000 rpm on"),
    ]


def _under_load(spark: Table, by: float) -> Table:
    loaded = np.where(spark.y.values >= 130.0, by, 0.0)[:, None] * np.ones(spark.x.values.size)[None, :]
    return spark.with_values(np.clip(spark.values + loaded, spark.low, spark.high))


# The bench calls its tables by their roles.
_BENCH = {r: r for r in ("boost_target", "torque_limit", "spark_advance", "lambda_target")}


def write_all(folder: Path) -> dict[str, Log]:
    """Make the files anew; gives the bench's own log of each, which is the truth that they were written from."""
    make_folder(folder)
    layout = bench_layout()
    stock = _stock(layout)
    first_maps = _changed(stock, more_boost(stock, _BENCH))
    second_maps = _changed(first_maps, gentler(first_maps, _BENCH))
    memory, description = written(stock)
    write_whole(folder / DESCRIPTION, description.encode("cp1252"))
    write_whole(folder / COMPANION, shipped(COMPANION))
    write_whole(folder / IMAGE, to_text(memory, "hex", unit()["start"], gaps()))
    first, _ = _rig(layout, stock, MILD, 11).pull(RUN)
    evening, noon = _rig(layout, first_maps, WARM, 12), _rig(layout, second_maps, WARM, 14)
    runs = [evening.pull(RUN) for _ in range(3)]
    morning, _ = _rig(layout, first_maps, COOL, 13).pull(RUN)
    later = []
    for _ in range(3):
        later.append(noon.pull(RUN))
        noon.cool(90.0)
    write_whole(folder / FRENCH, _french(first).encode("iso-8859-15"))
    write_whole(folder / GAUGE, _gauge([runs[1][0]], WARM).encode("utf-8-sig"))
    write_whole(folder / SPARSE, _sparse(morning).encode("utf-8"))
    write_whole(folder / NOON, _gauge([log for log, _ in later], WARM).encode("utf-8"))
    _sheet(folder / SHEET, runs)
    _sheet(folder / SHEET_2, later)
    return {FRENCH: first, GAUGE: runs[1][0], SPARSE: morning, SHEET: runs[1][0], NOON: later[0][0]}


def _changed(maps: Calibration, tables: Sequence[tuple[Table, str]]) -> Calibration:
    for table, _ in tables:
        maps = maps.with_table(table)
    return maps


def _rig(layout: Layout, maps: Calibration, air: Air, seed: int) -> Rig:
    simulated = SimulatedUnit(layout, pack({SLOT: maps}, layout, "bench"))
    return Rig(load_plant("whinchat"), simulated, SLOT, Weather(air, 17.0, drifts=False), "petrol-95", seed)


def _values(log: Log, c: Column, clock: FloatArray, barometer_pa: float) -> FloatArray:
    values = log.at(c.key, clock) * c.sign
    if c.unit == "AFR":
        return np.asarray(values * PETROL_AFR)
    return np.asarray(from_canonical(values - barometer_pa * c.gauge, c.unit))


def _lines(log: Log, columns: Sequence[Column], clock: FloatArray, air: Air) -> list[list[str]]:
    values = [_values(log, c, clock, air.pressure_pa) for c in columns]
    return [
        [f"{v + 0.0:.{c.digits}f}" if np.isfinite(v) else "" for v, c in zip(row, columns, strict=True)]
        for row in np.column_stack(values)
    ]


def _seen(log: Log) -> tuple[float, float]:
    """From when to when a logger saw all of it."""
    start, end = log.span()
    return start + 0.15, end - 0.15


def _french(log: Log) -> str:
    """Names over units, semicolons and decimal commas, lines of comment above."""
    columns = _logger("french")
    start, end = _seen(log)
    clock = np.arange(start, end, 0.05)
    lines = [
        "# Enregistreur de bord, passage 1",
        "# véhicule : patrouille",
        ";".join(["Temps", *(c.name for c in columns)]),
    ]
    lines.append(";".join(["s", *(c.words for c in columns)]))
    for t, row in zip(clock - start, _lines(log, columns, clock, MILD), strict=True):
        lines.append(";".join([f"{t:.2f}", *row]).replace(".", ","))
    return "\r\n".join(lines) + "\r\n"


def _gauge(logs: Sequence[Log], air: Air) -> str:
    """Milliseconds, gauge pressure, an air-fuel ratio, retard that counts upward; pulls a minute apart."""
    columns = _logger("gauge")
    lines = [",".join(["Time (ms)", *(f"{c.name} ({c.words})" if c.words else c.name for c in columns)])]
    for number, log in enumerate(logs):
        start, end = _seen(log)
        clock = np.arange(start, end, 0.05)
        begins = 41250 + number * 60_000
        for t, row in zip(clock - start, _lines(log, columns, clock, air), strict=True):
            lines.append(",".join([f"{t * 1e3 + begins:.0f}", *row]))
    return "\n".join(lines) + "\n"


def _sparse(log: Log) -> str:
    """One value a row, each channel at its own rate."""
    columns = _logger("sparse")
    start, end = _seen(log)
    rows: list[tuple[float, str, str, str]] = []
    for n, c in enumerate(columns):
        clock = np.arange(start + 0.003 * n, end, 1.0 / c.rate_hz)
        values = _values(log, c, clock, COOL.pressure_pa)
        rows += [
            (t - start, c.name, f"{v:.{c.digits}f}", c.words) for t, v in zip(clock, values, strict=True) if v == v
        ]
    rows.sort()
    return "time;signal;value;unit\n" + "\n".join(f"{t:.3f};{n};{v};{u}" for t, n, v, u in rows) + "\n"


def _sheet(path: Path, runs: Sequence[tuple[Log, Conditions]]) -> None:
    """Three runs of a roller: a sheet each, power at the wheels as measured and corrected, its barometer reduced."""
    import openpyxl

    book = openpyxl.Workbook()
    book.remove(book.worksheets[0])
    for n, (log, conditions) in enumerate(runs, 1):
        sheet = book.create_sheet(f"Lauf {n}")
        pull = find_pulls(log)[0]
        curve = dyno_curve(log, pull, conditions, "none", boost_controlled=True)
        for row in _rows(log, curve, pull.start_s, conditions, n):
            sheet.append(row)
    book.save(path)


def _rows(log: Log, curve: Curve, start_s: float, c: Conditions, number: int) -> list[list[object]]:
    air = c.air
    reduced = float(isa_pressure(isa_altitude(air.pressure_pa) - ALTITUDE_M))
    factor = correction("din-70020", air).factor
    speed = log.channel("engine_speed")
    keep = speed.time_s >= start_s
    rising = np.maximum.accumulate(speed.values[keep])
    at = np.interp(curve.speed_rpm, rising, speed.time_s[keep])
    head: list[list[object]] = [
        ["Prüfstand", "Rolle Süd"], ["Lauf", number], ["Gang", c.gear],
        ["Lufttemperatur", round(air.temperature_k - 273.15, 1), "°C"],
        ["Luftdruck auf Meereshöhe", round(reduced / 100.0, 1), "hPa"], ["Höhe", ALTITUDE_M, "m"],
        ["Luftfeuchte", f"{air.relative_humidity * 100.0:.0f} %"], [],
        ["Zeit", "Drehzahl", "P-Rad", "M-Rad", "P-Norm"], ["s", "1/min", "kW", "Nm", "kW"],
    ]  # fmt: skip
    return head + [
        [round(float(t - at[0]), 2), float(n), round(p / 1e3, 2), round(m, 1), round(p / 1e3 * factor, 2)]
        for t, n, p, m in zip(at, curve.speed_rpm, curve.power_w.tolist(), curve.torque_nm.tolist(), strict=True)
    ]


if __name__ == "__main__":
    write_all(Path(sys.argv[1]))
