"""What a column is, where one hint speaks against the others: each case is read right or asked, never wrong in silence."""

from dataclasses import replace

import numpy as np
import pytest

from yarvic.core.evidence.mapping import Facts
from yarvic.core.evidence.vote import SURE_ODDS, Ballot, Reading
from yarvic.core.formats.logs.import_log import import_logs, read_file

RATE_HZ = 20.0
T = np.arange(0.0, 24.0, 1.0 / RATE_HZ)
PULLING = (T > 6.0) & (T < 18.0)
SHARE = np.clip((T - 6.0) / 12.0, 0.0, 1.0)
BARO_KPA = 97.0


def drive(**changed):
    """A petrol engine with a turbo that idles, pulls and coasts, as columns of numbers by their headers."""
    idle = ~PULLING
    found = {
        "RPM (rpm)": np.where(PULLING, 2000 + 4500 * SHARE, 1400.0),
        "TPS (%)": np.where(PULLING, 100.0, 8.0),
        "MAP (kPa abs)": np.where(PULLING, 130 + 150 * np.minimum(3 * SHARE, 1.0), 42.0),
        "Lambda (lambda)": np.where(PULLING, 0.86, 1.0) + 0.004 * np.sin(9 * T),
        "IAT (C)": 31.0 + 18 * SHARE,
        "ECT (C)": 88.0 + 2 * SHARE,
        "EGT (C)": np.where(PULLING, 640 + 260 * SHARE, 560.0),
        "Spark (deg)": np.where(idle, 24.0, 6 + 14 * SHARE),
    }
    for header, values in changed.pop("columns", {}).items():
        found[header] = values
    for old, new in changed.pop("rename", {}).items():
        found = {new if h == old else h: v for h, v in found.items()}
    for gone in changed.pop("without", ()):
        found.pop(gone)
    return found


def rows_of(columns, digits=3):
    return [[f"{t:.2f}", *(f"{v[i]:.{digits}f}" for v in columns.values())] for i, t in enumerate(T)]


def written(path, columns, rows=None, separator=","):
    lines = [separator.join(["Time (s)", *columns]), *(separator.join(r) for r in rows or rows_of(columns))]
    path.write_text("\n".join(lines) + "\n", encoding="utf-8")
    return path


def channel(path, key):
    found = import_logs(path)
    assert len(found) == 1
    return found[0].log.channels.get(key)


def right_or_asked(path, key, truth, *, within):
    """The channel is asked about (or left aside), or it is what it was."""
    c = channel(path, key)
    if c is None or c.doubt is not None:
        return "asked"
    assert np.nanmax(np.abs(c.values - truth)) <= within, f"{key}: {c.values[:5]} is not {truth[:5]}"
    return "right"


# -- zero of a pressure


@pytest.mark.parametrize("row", [0, 5, 200, 250, -1])
@pytest.mark.parametrize("what", ["zeros", "rpm", "boost"])
@pytest.mark.parametrize("zero", [0.0, BARO_KPA])
def test_one_row_decides_no_zero(tmp_path, row, what, zero):
    """A row of zeros, a dropout of engine speed, a spike of boost: the boost column is read as it is without that row."""
    columns = drive(rename={"MAP (kPa abs)": "Boost (kPa)"})
    truth = columns["Boost (kPa)"].copy()
    columns["Boost (kPa)"] = truth - zero
    columns["Barometer (kPa)"] = np.full(T.size, BARO_KPA)
    rows = rows_of(columns)
    if what == "zeros":
        rows[row] = [rows[row][0], *["0.000"] * len(columns)]
    elif what == "rpm":
        rows[row][1] = "0"
    else:
        rows[row][3] = "-8.0"
    c = channel(written(tmp_path / "a.csv", columns, rows), "boost_pressure")
    assert c.doubt is None
    good = np.ones(T.size, bool)
    good[row] = False
    assert np.allclose(c.values[good], truth[good] * 1e3, atol=20.0)


def test_a_logger_that_waits_with_zeros_makes_no_gauge(tmp_path):
    """Two seconds of zeros in all columns before the link stands."""
    columns = drive(rename={"MAP (kPa abs)": "Boost (kPa)"})
    truth = columns["Boost (kPa)"].copy()
    rows = rows_of(columns)
    for n in range(40):
        rows[n] = [rows[n][0], *["0.000"] * len(columns)]
    c = channel(written(tmp_path / "a.csv", columns, rows), "boost_pressure")
    assert c.doubt is not None or np.allclose(c.values[40:], truth[40:] * 1e3, atol=20.0)


def test_hints_that_contradict_each_other_are_asked(tmp_path):
    """At rest it reads the barometer, at idle less than a vacuum can be."""
    columns = drive(rename={"MAP (kPa abs)": "Boost (kPa)"})
    boost, rpm = columns["Boost (kPa)"] - BARO_KPA, columns["RPM (rpm)"].copy()
    boost[:40], rpm[:40] = 97.0, 0.0
    columns["Boost (kPa)"], columns["RPM (rpm)"] = boost, rpm
    assert channel(written(tmp_path / "a.csv", columns), "boost_pressure").doubt is not None


# -- signs


def knocks(sign, cylinders=(1, 2, 3), name="Knock corr"):
    found = {}
    for c in cylinders:
        retard = np.where(PULLING & ((T * (1 + c)).astype(int) % 5 == 0), 4.0 + c, 0.0)
        found[f"{name} {c} (deg)"] = sign * retard
    return found


@pytest.mark.parametrize("name", ["Knock correction", "Spark correction", "Knock retard"])
def test_a_few_idle_values_of_the_other_sign_hide_no_knock(tmp_path, name):
    """9 deg counted upward for seconds, a few values below zero at idle: never read as nothing retarded."""
    columns = drive(columns=knocks(1.0, name=name))
    for header in list(columns)[-3:]:
        columns[header][:6] = -0.7
    truth = -columns[f"{name} 3 (deg)"]
    path = written(tmp_path / "a.csv", columns)
    right_or_asked(path, "spark_correction_3", np.where(PULLING, truth, truth), within=0.01)


def test_siblings_of_a_family_are_signed_together(tmp_path):
    """Cylinder 2 never moved, cylinder 3 shows only what its siblings explain."""
    columns = drive(columns=knocks(1.0, name="Knock retard"))
    columns["Knock retard 2 (deg)"] = np.zeros(T.size)
    log = import_logs(written(tmp_path / "a.csv", columns))[0]
    signs = {c.sign for c in log.understood.columns if c.channel.startswith("spark_correction")}
    assert signs == {-1}
    assert all(log.log.channel(f"spark_correction_{n}").values.min() <= 0.0 for n in (1, 2, 3))


def test_spark_counted_downward_is_no_retard_of_the_whole_map(tmp_path):
    columns = drive()
    spark = columns["Spark (deg)"].copy()
    columns["Spark (deg)"] = -spark
    columns["Spark (deg)"][::40] = 3.0  # 2.5 % of samples lie above
    assert right_or_asked(written(tmp_path / "a.csv", columns), "spark_advance", spark, within=40.0) == "asked"


# -- scales, volts, counts, inversions


SCALED = {  # the header, as it is written, what the numbers are multiplied by, the channel
    "rpm over ten": ("RPM (rpm)", "RPM/10", 0.1, "engine_speed"),
    "rpm in tenths": ("RPM (rpm)", "RPM", 10.0, "engine_speed"),
    "rpm times ten, said": ("RPM (rpm)", "RPM x10", 10.0, "engine_speed"),
    "lambda times a thousand": ("Lambda (lambda)", "Lambda x1000", 1000.0, "lambda_measured"),
    "throttle in volts": ("TPS (%)", "TPS", 0.04, "throttle"),
    "throttle in counts": ("TPS (%)", "TPS", 2.55, "throttle"),
    "map in volts": ("MAP (kPa abs)", "MAP", 4.6 / 280.0, "boost_pressure"),
    "coolant in tenths": ("ECT (C)", "ECT", 10.0, "coolant_temperature"),
    "wideband in volts": ("Lambda (lambda)", "Wideband", 2.4, "lambda_measured"),
}  # fmt: skip


@pytest.mark.parametrize("name", SCALED)
def test_numbers_of_another_scale_are_read_by_it_or_asked(tmp_path, name):
    header, written_as, factor, key = SCALED[name]
    columns = drive()
    truth = columns[header] * (1e3 if "kPa" in header else 0.01 if "%" in header else 1.0)
    truth = truth + (273.15 if "(C)" in header else 0.0)
    columns = {written_as if h == header else h: v * factor if h == header else v for h, v in columns.items()}
    right_or_asked(
        written(tmp_path / "a.csv", columns, rows_of(columns, 4)), key, truth, within=0.02 * np.abs(truth).max()
    )


@pytest.mark.parametrize(
    ("header", "key"), [("STFT", "fuel_trim"), ("Short term trim (%)", "fuel_trim"), ("LTFT", "long_trim")]
)
def test_a_trim_around_one_is_no_per_cent(tmp_path, header, key):
    trim = 0.04 * np.sin(T)
    path = written(tmp_path / "a.csv", drive(columns={header: 1.0 + trim}), None)
    c = channel(path, key)
    assert c is None or c.doubt is not None or np.allclose(c.values, trim, atol=2e-3)


def test_phi_is_one_over_lambda(tmp_path):
    columns = drive(without=["Lambda (lambda)"])
    mixture = np.where(PULLING, 0.86, 1.0)
    columns["Wideband (phi)"] = 1.0 / mixture
    c = channel(written(tmp_path / "a.csv", columns, rows_of(columns, 5)), "lambda_measured")
    assert c.doubt is None and np.allclose(c.values, mixture, atol=1e-4)


@pytest.mark.parametrize(
    ("header", "key", "raw", "value"),
    [
        ("Vehicle speed (knots)", "vehicle_speed", 50.0, 50 * 1852 / 3600),
        ("Air flow (lbs/min)", "air_flow", 30.0, 30 * 0.45359237 / 60),
        ("Vehicle speed (kn)", "vehicle_speed", 50.0, 50 * 1852 / 3600),
    ],
)
def test_units_that_a_trade_has_beside_its_own(tmp_path, header, key, raw, value):
    """Knot: 1,852 m an hour (SI brochure, table 8); pound: 0.45359237 kg (NIST SP 811)."""
    path = written(tmp_path / "a.csv", drive(columns={header: raw * (0.2 + 0.8 * SHARE)}))
    assert channel(path, key).values.max() == pytest.approx(value, rel=1e-4)


def test_temperatures_without_a_unit_are_voted_on_together(tmp_path):
    """Four temperatures in degF without a unit: each alone leaves something open."""
    names = {"IAT (C)": "IAT", "ECT (C)": "ECT", "EGT (C)": "EGT"}
    columns = {names.get(h, h): v * 1.8 + 32 if h in names else v for h, v in drive().items()}
    columns["Oil temp"] = 212.0 + 10 * SHARE
    path = written(tmp_path / "a.csv", columns)
    for key, celsius in (("coolant_temperature", 88.0 + 2 * SHARE), ("oil_temperature", 100 + 10 * SHARE / 1.8)):
        right_or_asked(path, key, celsius + 273.15, within=0.1)


def test_only_is_said_where_nothing_else_can_be(tmp_path):
    """'Can only be' stands for a reading that nothing beside it is possible for; else its odds are given."""
    columns = drive(rename={"TPS (%)": "TPS", "ECT (C)": "ECT", "IAT (C)": "IAT", "EGT (C)": "EGT"})
    found = import_logs(written(tmp_path / "a.csv", columns))[0].understood.columns
    said = {c.name: c.reason for c in found}
    assert "can only be" not in said["ECT"] and ("likely" in said["ECT"] or found[5].question)
    for c in found:
        if c.how == "guessed" and not c.question:
            assert c.confidence >= SURE_ODDS


def thousands(value):
    return f"{int(value) // 1000}.{int(value) % 1000:03d}" if value >= 1000 else f"{value:.0f}"


@pytest.mark.parametrize(("separator", "comma"), [(";", True), (";", False), (",", False)])
def test_points_between_thousands_are_no_decimals(tmp_path, separator, comma):
    """998, 999, 1.000, 1.001: read as decimals the engine would turn at one."""
    columns = drive()
    columns["RPM (rpm)"] = np.where(PULLING, 900 + 5000 * SHARE, 900.0).round()
    rows = [[f.replace(".", ",") if comma else f for f in r] for r in rows_of(columns, 2)]
    for row, rpm in zip(rows, columns["RPM (rpm)"], strict=True):
        row[1] = thousands(rpm)
    path = written(tmp_path / "a.csv", columns, rows, separator)
    c = channel(path, "engine_speed")
    assert c.values.max() == pytest.approx(5900.0, abs=30.0)
    assert comma or c.doubt is not None


def test_small_numbers_beside_large_ones_are_no_thousands(tmp_path):
    """A throttle that ends at exactly 100, a pressure with decimals all along."""
    columns = drive(columns={"Duty (%)": np.where(PULLING, 100.0, 12.345 + SHARE)})
    columns["MAP (kPa abs)"] += 0.123
    log = import_logs(written(tmp_path / "a.csv", columns))[0].log
    assert log.channel("throttle").doubt is None and log.channel("boost_pressure").doubt is None


# -- the ballot itself


def test_odds_are_the_shares_of_likelihood():
    """By hand: scores 0 and -ln 3 are odds of three to one."""
    one, other = Reading("kPa"), Reading("psi")
    ballot = Ballot([one, other])
    ballot.add(lambda r: 0.0 if r is one else -float(np.log(3.0)))
    assert ballot.odds[one] == pytest.approx(0.75) and ballot.best() == (one, pytest.approx(0.75))
    ballot.add(lambda r: -12.0)
    assert ballot.best() is None and ballot.worth_saying() == []


# -- what was confirmed before is one hint among others


def test_a_remembered_unit_is_asked_again_where_another_fits_better(tmp_path):
    """The same header, one day in kPa gauge and degF, the next in psi gauge and degC."""
    names = {"MAP (kPa abs)": "Boost", "IAT (C)": "IAT", "ECT (C)": "ECT"}
    first = {names.get(h, h): v for h, v in drive().items()}
    boost, iat, ect = (first[h].copy() for h in ("Boost", "IAT", "ECT"))
    first["Boost"], first["IAT"], first["ECT"] = boost - BARO_KPA, iat * 1.8 + 32, ect * 1.8 + 32
    found = read_file(written(tmp_path / "a.csv", first))[0]
    said = {"Boost": ("kPa", "gauge"), "IAT": ("degF", ""), "ECT": ("degF", "")}
    columns = tuple(
        c.told(unit=said[c.name][0], reference=said[c.name][1]) if c.name in said else c
        for c in found.understood.columns
    )
    mapping = replace(found.understood, columns=columns).mapping(found.raw)
    again = import_logs(written(tmp_path / "b.csv", first), mapping=mapping)[0]
    assert all(again.understood.columns[n].question == "" for n in (2, 4, 5))
    second = {**first, "Boost": (boost - BARO_KPA) / 6.894757, "IAT": iat, "ECT": ect}
    other = import_logs(written(tmp_path / "c.csv", second), mapping=mapping)[0]
    asked = {c.name for c in other.understood.columns if c.question}
    assert {"Boost", "IAT", "ECT"} <= asked


def test_another_day_is_no_other_unit(tmp_path):
    """Less boost, a colder day, an idle log: what was confirmed stands."""
    first = drive(rename={"MAP (kPa abs)": "Boost", "IAT (C)": "IAT"})
    found = read_file(written(tmp_path / "a.csv", first))[0]
    columns = tuple(
        c.told(unit="kPa", reference="absolute")
        if c.name == "Boost"
        else c.told(unit="degC")
        if c.name == "IAT"
        else c
        for c in found.understood.columns
    )
    mapping = replace(found.understood, columns=columns).mapping(found.raw)
    colder = {**first, "Boost": 42 + (first["Boost"] - 42) * 0.6, "IAT": first["IAT"] - 38.0}
    idle = {
        **first,
        "Boost": np.full(T.size, 41.0),
        "IAT": np.full(T.size, 12.0),
        "RPM (rpm)": np.full(T.size, 850.0),
    }
    for n, other in enumerate((colder, idle)):
        again = import_logs(written(tmp_path / f"{n}.csv", other), mapping=mapping)[0]
        assert [c.name for c in again.understood.columns if c.question] == []


# -- twins, formulas, a barometer


def test_an_empty_twin_never_stands_for_a_full_column(tmp_path):
    columns = drive(columns={"Engine speed (rpm)": np.full(T.size, np.nan)})
    columns = {"Engine speed (rpm)": columns.pop("Engine speed (rpm)"), **columns}
    rows = [
        [f"{t:.2f}", *("" if np.isnan(v[i]) else f"{v[i]:.3f}" for v in columns.values())] for i, t in enumerate(T)
    ]
    [found] = import_logs(written(tmp_path / "a.csv", columns, rows))
    speed = found.log.channel("engine_speed")
    assert np.isfinite(speed.values).all() and speed.doubt is None
    empty = next(c for c in found.understood.columns if c.name.startswith("Engine speed"))
    assert not empty.channel and "holds no number" in empty.reason


def test_formulas_without_values_are_said(tmp_path):
    import openpyxl

    columns = drive()
    book = openpyxl.Workbook()
    book.active.append(["Time (s)", *columns, "Boost gauge (kPa)"])
    for i, row in enumerate(rows_of(columns), 2):
        book.active.append([*map(float, row), f"=D{i}-97"])
    book.save(tmp_path / "a.xlsx")
    [found] = import_logs(tmp_path / "a.xlsx")
    assert any("Boost gauge" in n and "480 cells hold a formula without its value" in n for n in found.log.notes)
    assert found.log.channel("engine_speed").doubt is None


@pytest.mark.parametrize(
    ("logged", "stated", "rest", "boost", "said"),
    [
        (94.0, 94.5, None, 94.5, "stated, 945 mbar"),  # as good as the same
        (94.0, 101.3, None, 94.0, "logged barometer (stated were 1013 mbar"),  # reduced to sea level
        (94.0, 101.3, 101.2, 101.3, "speaks for the stated one"),  # the logged one is off
        (94.0, None, None, 94.0, "the logged barometer, 940 mbar"),
        (30.0, 97.0, None, 97.0, "stated, 970 mbar"),  # no barometer reads that
    ],
)
def test_a_logged_barometer_against_a_stated_one(tmp_path, logged, stated, rest, boost, said):
    gauge = np.where(PULLING, 80.0 * np.minimum(3 * SHARE, 1.0), -50.0)
    if rest is not None:
        gauge = np.where(T < 3.0, 0.0, gauge)
    columns = drive(
        rename={"MAP (kPa abs)": "Boost (kPa gauge)"},
        columns={
            "MAP (kPa abs)": np.zeros(T.size),
            "Baro (kPa)": np.full(T.size, logged) + 0.05 * (np.arange(T.size) % 2),
        },
    )
    columns["Boost (kPa gauge)"] = gauge
    if rest is not None:
        columns["RPM (rpm)"] = np.where(T < 3.0, 0.0, columns["RPM (rpm)"])
        columns["MAP 2 (kPa abs)"] = np.where(T < 3.0, rest, 40.0)
    path = written(tmp_path / "a.csv", columns)
    [found] = import_logs(path, facts=Facts(stated * 1e3 if stated else None))
    channel = found.log.channel("boost_pressure")
    read = float(channel.values[np.argmax(SHARE >= 0.9)]) / 1e3
    assert channel.doubt is not None or read == pytest.approx(80.0 + boost, abs=0.6)
    assert channel.doubt is not None or any(said in n for n in found.log.notes), found.log.notes
    if rest is None:
        assert channel.doubt is None
