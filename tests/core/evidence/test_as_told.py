"""What a person says of a recording: which column is its time, a factor and an offset, a column that is added."""

from dataclasses import replace

import numpy as np
import pytest

from yarvic.core.errors import FormatError, UnitError
from yarvic.core.evidence.as_told import named_time, renamed_time, with_rows
from yarvic.core.evidence.mapping import Column, Mapping
from yarvic.core.evidence.raw import RawColumn, RawLog
from yarvic.core.evidence.taking import Understood, take, understand
from yarvic.core.formats.logs.import_log import import_logs, read_file

ROWS = 400
STEP_S = 0.05


def column(name, values, unit="", place=1):
    return RawColumn(name, unit, np.asarray(values, dtype=float), f"column {place}")


def a_log(**more):
    """Engine speed and a wideband in volts, 20 rows a second; more columns by name."""
    t = np.arange(ROWS) * STEP_S
    speed = 1500.0 + 450.0 * np.clip(t - 3.0, 0.0, 10.0)
    raw = RawLog([column("RPM", speed, "rpm", 2), column("Probe", 1.2 + 0.01 * (np.arange(ROWS) % 3), "V", 3)], None)
    raw.columns += [column(n, v, "", 4 + k) for k, (n, v) in enumerate(more.items())]
    return raw, t


def read(raw, understood):
    return take(replace(raw, columns=list(raw.columns)), understood)


def said(raw, understood, name, **told):
    at = next(n for n, c in enumerate(raw.columns) if c.name == name)
    columns = list(understood.columns)
    columns[at] = columns[at].told(**told)
    return replace(understood, columns=tuple(columns))


def time_of(raw, understood, name):
    place = None if name is None else next(n for n, c in enumerate(raw.columns) if c.name == name)
    time, columns = renamed_time(raw, understood.time, understood.columns, place)
    return Understood(time, tuple(columns), understood.curve)


def test_without_a_column_of_time_rows_are_counted_and_that_is_asked():
    raw, _ = a_log(counter=np.arange(ROWS) * 50.0)
    understood = understand(raw)
    assert raw.clock == "row" and "'counter', which rises steadily" in understood.time.question
    log = read(raw, understood)
    assert log.channel("engine_speed").time_s[-1] == ROWS - 1.0
    assert all(c.doubt is not None and c.doubt.about == "time" for c in log.channels.values())


def test_a_row_lasts_as_long_as_a_person_says():
    raw, t = a_log()
    understood = understand(raw)
    log = read(raw, replace(understood, time=understood.time.told(factor=50.0, unit="ms")))
    np.testing.assert_allclose(log.channel("engine_speed").time_s, t, atol=1e-12)
    assert log.channel("engine_speed").doubt is None


def test_a_column_that_is_named_is_the_time_and_no_channel():
    raw, t = a_log(counter=np.arange(ROWS) * 50.0)
    understood = time_of(raw, understand(raw), "counter")
    assert understood.time.channel == "" and understood.columns[2].unit == "ms"  # its steps can be nothing else
    log = read(raw, understood)
    np.testing.assert_allclose(log.channel("engine_speed").time_s, t, atol=1e-12)
    assert "counter" not in log.channels and len(log.channels) == 2
    back = time_of(raw, understood, None)
    assert back.time.channel == "time" and back.columns[2].channel == ""


def test_what_the_file_called_its_time_becomes_a_column_as_any_other():
    raw, t = a_log(stamp=np.arange(ROWS) * STEP_S)
    raw.time = column("Time", np.arange(ROWS) * 2.0, "s")
    log = read(raw, time_of(raw, understand(raw), "stamp"))
    np.testing.assert_allclose(log.channel("engine_speed").time_s, t, atol=1e-12)
    np.testing.assert_array_equal(log.channels["Time"].values, np.arange(ROWS) * 2.0)


def test_columns_with_stamps_of_their_own_go_along_with_the_time_that_is_named():
    raw, t = a_log(stamp=np.arange(ROWS) * STEP_S)
    raw.time = column("Time", np.arange(ROWS) * 2.0, "s")
    raw.columns.append(RawColumn("IAT", "degC", np.linspace(20.0, 40.0, ROWS // 4), "column 9", raw.time.values[::4]))
    understood = understand(raw)
    log = read(raw, time_of(raw, understood, "stamp"))
    iat = next(c for k, c in log.channels.items() if c.quantity == "temperature")
    np.testing.assert_allclose(iat.time_s, t[::4], atol=1e-12)
    faster = read(raw, replace(understood, time=understood.time.told(factor=0.5)))
    slow = next(c for c in faster.channels.values() if c.quantity == "temperature")
    np.testing.assert_allclose(slow.time_s, raw.time.values[::4] * 0.5)


def test_rows_without_a_stamp_are_left_out_of_every_column_and_said():
    stamps = np.arange(ROWS) * STEP_S
    stamps[7] = np.nan
    raw, _ = a_log(stamp=stamps)
    log = read(raw, time_of(raw, understand(raw), "stamp"))
    assert log.channel("engine_speed").values.size == ROWS - 1
    assert any("1 row without a time stamp was left out" in n for n in log.notes)


@pytest.mark.parametrize(
    ("values", "fault"),
    [
        ({"values": np.full(ROWS, np.nan)}, "too few numbers"),
        ({"states": ("on", "off")}, "words"),
        ({"time_s": np.arange(ROWS) * 1.0}, "time stamps of its own"),
    ],
)
def test_what_cannot_be_time_is_refused(values, fault):
    raw, _ = a_log(stamp=np.arange(ROWS) * 1.0)
    raw.columns[2] = replace(raw.columns[2], **values)
    with pytest.raises(UnitError, match=fault):
        named_time(raw, 2)


def test_what_does_not_rise_is_asked_when_it_is_named_time():
    raw, _ = a_log(sway=np.sin(np.arange(ROWS) / 5.0))
    assert "does not rise" in time_of(raw, understand(raw), "sway").columns[2].question


def test_volts_become_a_ratio_by_factor_and_offset():
    raw, _ = a_log()
    raw.time = column("Time", np.arange(ROWS) * STEP_S, "s")
    understood = said(raw, understand(raw), "Probe", channel="lambda_measured", unit="AFR", factor=2.0, offset=10.0)
    columns = [c.changed(stoichiometric_afr=14.0) if c.unit == "AFR" else c for c in understood.columns]
    log = read(raw, replace(understood, columns=tuple(columns)))
    np.testing.assert_allclose(log.channel("lambda_measured").values[:2], [12.4 / 14.0, 12.42 / 14.0])
    assert understood.columns[1].scale_in_words == "× 2 + 10"


def test_whole_seconds_and_a_column_of_milliseconds_are_one_time():
    t = np.arange(ROWS) * STEP_S
    raw, _ = a_log(rest=np.round((t % 1.0) * 1e3))
    raw.time = column("Time", np.floor(t), "s")
    understood = understand(raw)
    log = read(raw, replace(understood, time=understood.time.told(plus="rest", plus_unit="ms")))
    np.testing.assert_allclose(log.channel("engine_speed").time_s, t, atol=1e-9)


def test_two_columns_are_added_in_their_units():
    raw, _ = a_log(left=np.full(ROWS, 60.0), right=np.full(ROWS, 0.05))
    raw.time = column("Time", np.arange(ROWS) * STEP_S, "s")
    understood = said(raw, understand(raw), "left", channel="power", unit="kW")
    understood = said(raw, understood, "left", plus="right", plus_unit="W")
    assert np.ptp(read(raw, understood).channel("power").values) == 0.0
    np.testing.assert_allclose(read(raw, understood).channel("power").values[0], 60_000.05)


@pytest.mark.parametrize("names", [(), ("right", "right")])
def test_what_is_to_be_added_and_is_not_there_once_is_asked_and_not_judged(names):
    raw, _ = a_log(left=np.full(ROWS, 60.0))
    raw.columns += [column(n, np.ones(ROWS)) for n in names]
    raw.time = column("Time", np.arange(ROWS) * STEP_S, "s")
    understood = said(raw, understand(raw), "left", channel="power", unit="kW")
    understood = said(raw, understood, "left", plus="right")
    power = read(raw, understood).channel("power")
    assert power.doubt is not None and "'right' is to be added" in power.doubt.sentence
    np.testing.assert_array_equal(power.values, 60_000.0)


@pytest.mark.parametrize(
    "entries",
    [
        {"factor": 0.0},
        {"factor": float("nan")},
        {"offset": float("inf")},
        {"channel": "time", "unit": "s", "factor": -1.0},
        {"channel": "coolant_temperature", "unit": "degC", "plus": "x", "plus_unit": "degF"},
        {"channel": "power", "unit": "kW", "plus": "x", "plus_unit": "N m"},
    ],
)
def test_what_cannot_be_meant_is_no_column(entries):
    with pytest.raises(ValueError):
        Column(name="x", **entries)


def test_a_remembered_mapping_keeps_time_factor_and_sum(tmp_path):
    raw, t = a_log(counter=np.arange(ROWS) * 50.0)
    understood = said(
        raw, time_of(raw, understand(raw), "counter"), "Probe", channel="lambda_measured", unit="lambda", factor=0.5
    )
    mapping = understood.mapping(raw)
    again, _ = a_log(counter=np.arange(ROWS) * 50.0)
    with_rows(again)
    log = read(again, understand(again, Mapping.model_validate_json(mapping.model_dump_json())))
    np.testing.assert_allclose(log.channel("engine_speed").time_s, t, atol=1e-12)
    np.testing.assert_allclose(log.channel("lambda_measured").values[:2], [0.6, 0.605])
    path = tmp_path / "none.csv"
    lines = [
        "RPM,Probe,counter",
        *(f"{r:g},{p:g},{n:g}" for r, p, n in zip(*(c.values for c in again.columns), strict=True)),
    ]
    path.write_text("\n".join(lines))
    with pytest.raises(FormatError, match="no time column"):
        import_logs(path)
    assert read_file(path)[0].understood.time.question


def test_a_named_time_that_does_not_rise_the_next_time_is_asked_again():
    raw, _ = a_log(counter=np.arange(ROWS) * 50.0)
    mapping = time_of(raw, understand(raw), "counter").mapping(raw)
    other, _ = a_log(counter=np.cos(np.arange(ROWS) / 9.0))
    assert "does not rise" in understand(other, mapping).columns[2].question
