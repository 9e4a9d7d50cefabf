"""Logs of any dialect, each written out with its truth: right, asked or refused, and never wrong in silence."""

import datetime
import gzip
import io
import random
import sys
import zipfile

import numpy as np
import openpyxl
import polars as pl
import pytest
from dialects import HURTS, one, table
from evidence_files import imported, read_log
from hypothesis import HealthCheck, example, given, settings
from hypothesis import strategies as st

from yarvic.core.checks.limits import default_limits
from yarvic.core.checks.run import check_log
from yarvic.core.errors import FormatError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.problems import problems
from yarvic.core.evidence.pulls import find_pulls
from yarvic.core.evidence.taking import UNKNOWN
from yarvic.core.formats.logs.import_log import import_logs
from yarvic.core.formats.logs.read import read_recordings

RATE = 20.0
T = np.round(np.arange(0.0, 14.0, 1.0 / RATE), 3)
IN_PULL = (T >= 2.0) & (T <= 12.0)
TRUTH = {
    "engine_speed": np.where(IN_PULL, 1800.0 + 440.0 * (T - 2.0), 1800.0),
    "throttle": np.where(IN_PULL, 1.0, 0.15),
    "boost_pressure": np.where(IN_PULL, 97e3 + np.minimum(12e3 * (T - 2.0), 88e3), 45e3),
    "charge_temperature": 305.15 + T,
    "coolant_temperature": np.full(T.size, 363.15),
    "lambda_measured": np.where(IN_PULL, 0.87, 1.0),
    "spark_advance": np.where(IN_PULL, 8.0 + T, 24.0),
    "spark_correction_2": np.where((T > 8.0) & (T < 8.4), -2.5, 0.0),
}
UNIT = {"engine_speed": "rpm", "throttle": "%", "boost_pressure": "kPa abs", "charge_temperature": "degC",
        "coolant_temperature": "degC", "lambda_measured": "lambda", "spark_advance": "deg", "spark_correction_2": "deg"}  # fmt: skip
SHOWN = {
    "engine_speed": TRUTH["engine_speed"], "throttle": TRUTH["throttle"] * 100.0,
    "boost_pressure": TRUTH["boost_pressure"] / 1e3, "charge_temperature": TRUTH["charge_temperature"] - 273.15,
    "coolant_temperature": TRUTH["coolant_temperature"] - 273.15, "lambda_measured": TRUTH["lambda_measured"],
    "spark_advance": TRUTH["spark_advance"], "spark_correction_2": TRUTH["spark_correction_2"],
}  # fmt: skip
KEYS = tuple(TRUTH)
NAMES = {k: CHANNELS[k].title for k in KEYS}
HEAD = ["Time [s]", *(f"{NAMES[k]} [{UNIT[k]}]" for k in KEYS)]


def rows(stamps=T, digits=4, **shown):
    """The table as texts, with other numbers for some columns."""
    columns = [stamps, *(shown.get(k, SHOWN[k]) for k in KEYS)]
    return [
        [c[i] if isinstance(c[i], str) else f"{c[i]:.{digits}f}".rstrip("0").rstrip(".") for c in columns]
        for i in range(T.size)
    ]


def text(head=HEAD, body=None, separator=",", end="\n", comma=False):
    lines = [separator.join(head)] if isinstance(head[0], str) else [separator.join(h) for h in head]
    for row in body or rows():
        line = separator.join(row)
        lines.append(line.replace(".", ",") if comma else line)
    return end.join(lines) + end


def named(**names):
    return ["Time [s]", *(names.get(k, h) for k, h in zip(KEYS, HEAD[1:], strict=True))]


BARE, BELOW = ["Time", *NAMES.values()], ["s", *UNIT.values()]
GERMAN = [
    ["Zeit", "Motordrehzahl", "Drosselklappe", "Ladedruck", "Ladelufttemperatur", "Kühlmitteltemperatur", "Lambda", "Zündwinkel",
     "Zündwinkelkorrektur Zyl. 2"],
    ["s", "1/min", "%", "kPa abs", "°C", "°C", "-", "°KW", "°KW"],
]  # fmt: skip
FRENCH = ["Temps (s)", "Régime moteur (tr/min)", "Papillon (%)", "Pression de suralimentation (kPa abs)",
          "Température d'admission (°C)", "Température d'eau (°C)", "Lambda", "Avance à l'allumage (°)",
          "Correction d'avance cyl 2 (°)"]  # fmt: skip


def clock(seconds, begin=37000.0, digits=3):
    s = begin + seconds
    return f"{int(s // 3600) % 24:02d}:{int(s // 60) % 60:02d}:{s % 60:0{3 + digits}.{digits}f}"


def interleaved():
    """Engine speed in every row, the temperatures in every fifth one."""
    body = rows()
    for i, row in enumerate(body):
        if i % 5:
            row[4] = row[5] = ""
    return body


def one_value_a_row():
    lines = ["timestamp,name,value,unit"]
    for i, row in enumerate(rows()):
        for k, (key, value) in enumerate(zip(KEYS, row[1:], strict=True)):
            if key != "coolant_temperature" or i % 10 == 0:
                lines.append(f"{T[i] + 1e-5 * k:.5f},{NAMES[key]},{value},{UNIT[key]}")
    return "\n".join(lines)


def two_sections():
    a = [[row[0], *row[1:4]] for row in rows()]
    b = [[row[0], *row[4:]] for row in rows()]
    return text([HEAD[0], *HEAD[1:4]], a) + "\n" + text([HEAD[0], *HEAD[4:]], b)


def with_between(*odd, at=150):
    lines = text().splitlines()
    return "\n".join([*lines[:at], *odd, *lines[at:]]) + "\n"


def quoted(body, separator):
    return "\n".join(separator.join(f'"{f}"' for f in row) for row in body) + "\n"


RIGHT = {
    "plain": lambda: text(),
    "semicolons": lambda: text(separator=";"),
    "tabs": lambda: text(separator="\t"),
    "bars": lambda: text(separator="|"),
    "decimal commas": lambda: text(separator=";", comma=True),
    "decimal commas and tabs": lambda: text(separator="\t", comma=True),
    "lines of another system": lambda: text(end="\r\n"),
    "old lines": lambda: text(end="\r"),
    "a mark before": lambda: text().encode("utf-8-sig"),
    "two bytes a letter": lambda: text().encode("utf-16"),
    "two bytes, no mark": lambda: text().encode("utf-16-le"),
    "two bytes, other order": lambda: text().encode("utf-16-be"),
    "german, old letters": lambda: text(GERMAN, separator=";", comma=True).encode("cp1252"),
    "german, older letters": lambda: text(GERMAN, separator=";", comma=True).encode("cp850"),
    "german": lambda: text(GERMAN, separator=";", comma=True),
    "french": lambda: text(FRENCH, separator=";", comma=True),
    "french, letters of another system": lambda: text(FRENCH, separator="\t").encode("mac_roman"),
    "all quoted": lambda: quoted([HEAD, *rows()], ","),
    "decimal commas in quotes": lambda: quoted([HEAD, *[[f.replace(".", ",") for f in r] for r in rows()]], ","),
    "comments": lambda: "# a log\n# of a logger\n" + text(),
    "lines about the run": lambda: "Vehicle,Ptarmigan\nDriver,nobody\nDate,2026-01-02\n\n" + text(),
    "a line for the spreadsheet": lambda: "sep=;\n" + text(separator=";"),
    "a header behind a sign of comment": lambda: "# " + text(),
    "units in a line below": lambda: text([BARE, BELOW]),
    "units in brackets below": lambda: text([BARE, [f"[{u}]" for u in BELOW]], separator=";"),
    "a line of numbers of channels": lambda: text([[str(i) for i in range(9)], BARE, BELOW]),
    "units behind underscores": lambda: text(named(engine_speed="RPM_rpm", boost_pressure="MAP_kPa abs")),
    "units behind commas": lambda: text([h.replace(" [", ", ").rstrip("]") for h in HEAD], separator=";"),
    "units behind slashes": lambda: text([h.replace(" [", " / ").rstrip("]") for h in HEAD], separator=";"),
    "header again": lambda: with_between(",".join(HEAD)),
    "header and units again": lambda: "\n".join([*text([BARE, BELOW]).splitlines()[:99], ",".join(BARE), ",".join(BELOW), *text([BARE, BELOW]).splitlines()[99:]]),
    "blank lines": lambda: with_between("", ""),
    "a blank line behind each": lambda: text(end="\n\n"),
    "a comment in the middle": lambda: "# begun\n" + with_between("# marker set by the driver"),
    "a note in the middle": lambda: with_between("*** marker ***"),
    "an end": lambda: text() + "End of log\n",
    "columns between blanks": lambda: text([h.replace(" ", "_") for h in HEAD], separator="   "),
    "a separator behind each line": lambda: "\n".join(f"{line};" for line in text(separator=";").splitlines()),
    "milliseconds": lambda: text(["Time [ms]", *HEAD[1:]], rows(T * 1e3)),
    "microseconds": lambda: text(["Time (us)", *HEAD[1:]], rows(T * 1e6)),
    "minutes": lambda: text(["Time (min)", *HEAD[1:]], rows(T / 60.0, digits=7)),
    "a clock": lambda: text(["Time", *HEAD[1:]], rows([clock(t) for t in T])),
    "a clock past midnight": lambda: text(["Time", *HEAD[1:]], rows([clock(t, 86395.0) for t in T])),
    "a clock of twelve hours": lambda: text(["Time", *HEAD[1:]], rows([clock(t, 3590.0 + 36000.0).replace("10:", "12:", 1).replace("11:", "01:", 1) + " PM" for t in T])),
    "minutes and seconds": lambda: text(["Time (mm:ss.s)", *HEAD[1:]], rows([clock(t, 0.0)[3:] for t in T])),
    "date and time": lambda: text(["Timestamp", *HEAD[1:]], rows([f"2026-03-04T{clock(t)}Z" for t in T])),
    "date of the other order": lambda: text(["Timestamp", *HEAD[1:]], rows([f"04.03.2026 {clock(t)}" for t in T])),
    "a date beside a clock": lambda: text(["Date", "Time", *HEAD[1:]], [["2026-03-04", clock(t), *r[1:]] for t, r in zip(T, rows(), strict=True)]),
    "seconds since 1970": lambda: text(["Time", *HEAD[1:]], rows(T + 1.77e9)),
    "milliseconds since 1970": lambda: text(["Timestamp", *HEAD[1:]], rows((T + 1.77e9) * 1e3)),
    "time without its unit": lambda: text(["Time", *HEAD[1:]]),
    "milliseconds without their unit": lambda: text(["Time", *HEAD[1:]], rows(T * 1e3)),
    "a counter that wraps": lambda: text(["Time [ms]", *HEAD[1:]], rows((T * 1e3 + 60000) % 65536)),
    "slower temperatures": lambda: text(body=interleaved()),
    "one value a row": one_value_a_row,
    "two sections": two_sections,
    "words in a column": lambda: text([*HEAD, "Gear"], [[*r, "D4" if i > 99 else "N"] for i, r in enumerate(rows())]),
    "an unknown column": lambda: text([*HEAD, "Cup holder [warm]"], [[*r, "7"] for r in rows()]),
    "units in the fields": lambda: text(["Time", *(n for n in NAMES.values())], [[r[0], f"{r[1]} rpm", f"{r[2]} %", f"{r[3]} kPa abs", f"{r[4]} °C", f"{r[5]} °C", r[6], f"{r[7]} °", f"{r[8]} °"] for r in rows()], separator=";"),
    "american": lambda: text(["Time (s)", "RPM", "TPS (%)", "MAP (psia)", "IAT (°F)", "ECT (°F)", "Lambda", "Timing (°)", "KR cyl 2 (°)"], rows(boost_pressure=TRUTH["boost_pressure"] / 6894.757, charge_temperature=SHOWN["charge_temperature"] * 1.8 + 32, coolant_temperature=SHOWN["coolant_temperature"] * 1.8 + 32, spark_correction_2=-SHOWN["spark_correction_2"])),
    "retard with the other sign": lambda: text(named(spark_correction_2="Knock retard cyl 2 [deg]")),
    "cylinders from zero": lambda: text([*HEAD[:-1], "Spark correction cyl 1 [deg]", "Spark correction cyl 0 [deg]"], [[*r, "0"] for r in rows()]),
    "cut in the last line": lambda: text() + "14.0,18",
    "thousands": lambda: text(body=[[r[0], f"{float(r[1]):,.1f}".replace(",", "'"), *r[2:]] for r in rows()], separator=";"),
    "packed": lambda: gzip.compress(text().encode()),
}  # fmt: skip


def written(tmp_path, made):
    path = tmp_path / "log.any"
    path.write_bytes(made if isinstance(made, bytes) else made.encode("utf-8"))
    return path


@pytest.mark.parametrize("name", RIGHT)
def test_what_is_said_or_compelled_is_read_right(name, tmp_path):
    found = imported(written(tmp_path, RIGHT[name]()))
    log = found.log
    assert set(TRUTH) <= set(log.channels), found.understood.columns
    begin = min(c.time_s[0] for c in log.channels.values())
    for key, truth in TRUTH.items():
        c = log.channel(key)
        assert c.doubt is None, (key, c.doubt)
        size = float(np.abs(truth).max())
        assert c.values.size >= T.size / 10 - 1
        assert np.allclose(c.values, np.interp(c.time_s - begin, T, truth), atol=2e-3 * size), key
    assert len(find_pulls(log)) == 1


def test_at_least_forty_dialects_are_tried():
    assert len(RIGHT) >= 40


ASKED = {
    "gauge without its barometer": (lambda: text(named(boost_pressure="Boost (kPa gauge)"), rows(boost_pressure=SHOWN["boost_pressure"] - 97)), "boost_pressure", "reference"),
    "gauge or not": (lambda: text(named(boost_pressure="Boost (kPa)"), [r for r in rows() if float(r[2]) > 99]), "boost_pressure", "reference"),
    "a ratio without its fuel": (lambda: text(named(lambda_measured="AFR"), rows(lambda_measured=SHOWN["lambda_measured"] * 14.7)), "lambda_measured", "fuel"),
    "a ratio that is none": (lambda: text(named(lambda_measured="AFR (AFR)")), "lambda_measured", "unit"),
    "a lambda that is none": (lambda: text(named(lambda_measured="Lambda (lambda)"), rows(lambda_measured=SHOWN["lambda_measured"] * 14.7)), "lambda_measured", "unit"),
    "a temperature without its unit": (lambda: text(named(charge_temperature="IAT"), rows(charge_temperature=SHOWN["charge_temperature"] + 45)), "charge_temperature", "unit"),
    "degrees that are others": (lambda: text(named(coolant_temperature="ECT (°C)"), rows(coolant_temperature=SHOWN["coolant_temperature"] * 1.8 + 32)), "coolant_temperature", "unit"),
    "a correction that is only ever positive": (lambda: text(named(spark_correction_2="Ignition correction cyl 2 (deg)"), rows(spark_correction_2=-SHOWN["spark_correction_2"])), "spark_correction_2", "sign"),
    "bar called kPa": (lambda: text(rows(), rows(boost_pressure=SHOWN["boost_pressure"] / 100))[0:0] or text(body=rows(boost_pressure=SHOWN["boost_pressure"] / 100)), "boost_pressure", "unit"),
    "a barometer of another unit": (lambda: text([*HEAD, "Barometer (mbar)"], [[*r, "29.9"] for r in rows()]), "ambient_pressure", "unit"),
    "two columns that differ": (lambda: text([*HEAD, "Lambda (lambda)"], [[*r, "1.1"] for r in rows()]), "lambda_measured", "column"),
    "a thousand times lambda": (lambda: text(named(lambda_measured="AFR"), rows(lambda_measured=SHOWN["lambda_measured"] * 1000)), "lambda_measured", "unit"),
    "oxygen, volts or lambda": (lambda: text(named(lambda_measured="O2")), "lambda_measured", "column"),
    "an even clock of unknown unit": (lambda: text(["Time", *HEAD[1:2]], [[str(i), "900"] for i in range(200)]), "engine_speed", "time"),
}  # fmt: skip


@pytest.mark.parametrize("name", ASKED)
def test_what_the_numbers_leave_open_is_asked(name, tmp_path):
    make, key, about = ASKED[name]
    log = read_log(written(tmp_path, make()))
    assert log.channel(key).doubt is not None, log.notes
    assert log.channel(key).doubt.about == about


REFUSED = {
    "nothing": (b"", "holds no rows"),
    "blanks": (b"\n\n  \n", "holds no rows"),
    "a header alone": (",".join(HEAD).encode(), "no rows"),
    "no time": ("\n".join(",".join(r[1:]) for r in [HEAD, *rows()]).encode(), "no time column"),
    "a letter": (b"Dear customer,\nplease find attached,\nyours,\n", "no rows"),
    "commas everywhere": (text(body=[[f.replace(".", ",") for f in r] for r in rows()]).encode(), "another number of fields|no time"),
    "a picture": (b"\x89PNG\r\n\x1a\n" + bytes(900), "is a picture"),
    "a document": (b"%PDF-1.7\n" + bytes(900), "is a PDF"),
    "a database": (b"SQLite format 3\0" + bytes(900), "is a database"),
    "zeros": (bytes(5000), "holds no rows|not a text file"),
    "noise": (random.Random(3).randbytes(5000), "not a text file|no rows|cannot"),
    "too many columns": ((",".join(f"c{i}" for i in range(6000)) + "\n" + ",".join("1" * 6000) + "\n").encode() * 3, "6,000 columns"),
    "a zip of nothing": (b"PK\x05\x06" + bytes(18), "not a text file|holds no"),
    "half a gzip": (gzip.compress(text().encode())[:900], "damaged"),
    "parquet that is none": (b"PAR1" + bytes(500), "Parquet"),
    "mdf that is none": (b"MDF     4.10    " + bytes(900), "MDF 4"),
}  # fmt: skip


@pytest.mark.parametrize("name", REFUSED)
def test_what_is_no_log_is_refused_with_the_remedy(name, tmp_path):
    data, message = REFUSED[name]
    with pytest.raises(FormatError, match=message) as caught:
        import_logs(written(tmp_path, data))
    assert "log.any" in str(caught.value) and caught.value.remedy


# -- columns by the thousand


def test_no_column_that_can_hurt_is_wrong_without_being_asked():
    lines, wrong = table(120)
    assert [w for w in wrong if "refused" not in w] == []
    assert len(lines) > 15


@settings(max_examples=30, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture])
@given(seed=st.integers(10_000, 10_000_000))
@example(seed=218331)  # found: a mixture that follows its target was read by it
def test_any_dialect_is_right_asked_or_left_aside(seed, tmp_path):
    for column, how, said in one(seed, tmp_path / "a.csv"):
        assert how != "refused", said
        assert how != "wrong" or CHANNELS[column.key].quantity not in HURTS, said


# -- packed, columnar, and the ASAM format


def frame():
    return pl.DataFrame({h: [float(r[i]) for r in rows()] for i, h in enumerate(HEAD)})


def check_truth(log, keys=TRUTH):
    for key in keys:
        c = log.channel(key)
        assert c.doubt is None, (key, c.doubt)
        assert np.allclose(
            c.values, np.interp(c.time_s - T[0], T, TRUTH[key]), atol=2e-3 * np.abs(TRUTH[key]).max()
        ), key


def test_parquet_by_polars(tmp_path):
    frame().write_parquet(tmp_path / "a.parquet")
    check_truth(read_log(tmp_path / "a.parquet"))
    start = datetime.datetime(2026, 5, 6, 23, 59, 55)
    stamped = frame().with_columns(
        pl.Series("Time [s]", [start + datetime.timedelta(seconds=float(t)) for t in T]).alias("Timestamp")
    )
    stamped.drop("Time [s]").write_parquet(tmp_path / "b.parquet")
    found = imported(tmp_path / "b.parquet")
    check_truth(found.log)
    assert found.started == "2026-05-06T23:59:55"


def test_a_workbook_by_openpyxl(tmp_path):
    book = openpyxl.Workbook()
    book.active.title = "About"
    book.active.append(["logger", "nobody's"])
    sheet = book.create_sheet("Run 1")
    sheet.append(["exported on", datetime.date(2026, 1, 2)])
    sheet.append([])
    sheet.append(BARE)
    sheet.append(BELOW)
    for row in rows():
        sheet.append([float(f) for f in row])
    book.save(tmp_path / "a.xlsx")
    found = imported(tmp_path / "a.xlsx")
    check_truth(found.log)
    assert found.part == "sheet Run 1"


def test_mdf_by_asammdf(tmp_path):
    asammdf = pytest.importorskip("asammdf")
    with asammdf.MDF(version="4.10") as file:
        fast = [asammdf.Signal(SHOWN[k], T, unit=UNIT[k], name=NAMES[k]) for k in KEYS[:3]]
        slow = [asammdf.Signal(SHOWN[k][::4], T[::4], unit=UNIT[k], name=NAMES[k]) for k in KEYS[3:]]
        gear = {"val_0": 0, "text_0": b"N", "val_1": 1, "text_1": b"D", "default": b"?"}
        slow.append(
            asammdf.Signal(
                np.array([0, 1] * (T[::4].size // 2), dtype=np.uint8), T[::4], name="Gear", conversion=gear
            )
        )
        file.append(fast)
        file.append(slow)
        path = file.save(tmp_path / "a.mf4")
    found = imported(path)
    check_truth(found.log)
    assert found.log.channel("coolant_temperature").time_s.size == T[::4].size
    assert found.log.channel("Gear").states == ("N", "D") and found.log.channel("Gear").values[:3].tolist() == [
        0,
        1,
        0,
    ]


def test_without_asammdf_the_word_is_clear(monkeypatch):
    monkeypatch.setitem(sys.modules, "asammdf", None)
    with pytest.raises(FormatError, match="not installed") as caught:
        read_recordings.inside(b"MDF     4.10    " + bytes(900), "a.mf4")
    assert "yarvic[mdf]" in caught.value.remedy


def test_a_zip_of_several_logs_and_a_note(tmp_path):
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w") as archive:
        archive.writestr("b/second.csv", text(separator=";"))
        archive.writestr("first.csv", text())
        archive.writestr("readme.txt", "Dear customer,\nsee inside.\n")
    found = import_logs(written(tmp_path, buffer.getvalue()))
    assert [f.part for f in found] == ["second.csv", "first.csv"]
    for each in found:
        check_truth(each.log)
    assert any("readme.txt was left out" in n for n in found[0].log.notes)


def test_what_unpacks_without_end_is_refused(tmp_path):
    with pytest.raises(FormatError, match="more than a log can be"):
        import_logs(written(tmp_path, gzip.compress(b"0,0\n" * 30_000_000)))


# -- what a file holds besides


def test_time_that_starts_anew_splits_the_log(tmp_path):
    body = rows() + rows()
    found = import_logs(written(tmp_path, text(body=body)))
    assert [f.part for f in found] == ["part 1 of 2", "part 2 of 2"]
    for each in found:
        check_truth(each.log)
        assert any("starts anew once" in n for n in each.log.notes)


def test_time_that_runs_backward_all_along_is_one_recording_and_is_named(tmp_path):
    log = read_log(written(tmp_path, text(body=rows(T[::-1]))))
    assert any("time runs backward" in p.sentence for p in problems(log))
    findings = [f for r in check_log("a", log, default_limits()) for f in r.findings if f.check == "lambda_lean"]
    assert all(f.severity == "no_data" for f in findings)


def test_banks_and_sensors_are_kept_apart(tmp_path):
    head = ["Time [s]", "RPM", "Lambda Bank 1", "Lambda Bank 2", "EGT 1 [C]", "EGT 2 [C]", "Lambda B1S2"]
    body = [[f"{t:.2f}", "3000", "0.85", "0.95", "801", "850", "0.99"] for t in T]
    log = read_log(written(tmp_path, text(head, body)))
    got = {k: c.values[0] for k, c in log.channels.items()}
    assert got["lambda_measured"] == 0.85 and got["lambda_measured_bank_2"] == 0.95
    assert got["lambda_measured_bank_1_sensor_2"] == 0.99
    assert got["exhaust_temperature_2"] - got["exhaust_temperature"] == pytest.approx(49.0)


def test_words_become_states_and_what_is_unknown_keeps_its_name(tmp_path):
    log = read_log(written(tmp_path, RIGHT["words in a column"]()))
    gear = log.channel("Gear")
    assert gear.states == ("N", "D4") and gear.quantity == UNKNOWN
    assert [gear.states[int(v)] for v in gear.values[[0, 99, 100]]] == ["N", "N", "D4"]
    assert "Cup holder [warm]" in read_log(written(tmp_path, RIGHT["an unknown column"]())).channels


def test_lines_that_were_left_out_are_said(tmp_path):
    notes = " ".join(read_log(written(tmp_path, RIGHT["a note in the middle"]())).notes)
    assert "1 line could not be understood and left out: line 151" in notes
    assert "ends in the middle" in " ".join(read_log(written(tmp_path, RIGHT["cut in the last line"]())).notes)
    assert "repeated once" in " ".join(read_log(written(tmp_path, RIGHT["header again"]())).notes)


def test_a_barometer_a_fuel_and_a_lambda_beside_it_answer_what_was_asked(tmp_path):
    gauge = written(tmp_path, ASKED["gauge without its barometer"][0]())
    log = read_log(gauge, barometer_pa=97e3)
    assert np.allclose(log.channel("boost_pressure").values, TRUTH["boost_pressure"], atol=10.0)
    afr = written(tmp_path, ASKED["a ratio without its fuel"][0]())
    assert np.allclose(
        read_log(afr, stoichiometric_afr=14.7).channel("lambda_measured").values, TRUTH["lambda_measured"], atol=1e-3
    )
    both = text([*HEAD, "AFR target"], [[*r, f"{float(r[6]) * 14.1:.3f}"] for r in rows()])
    target = read_log(written(tmp_path, both)).channel("lambda_target")
    assert target.doubt is None and np.allclose(target.values, TRUTH["lambda_measured"], atol=1e-3)


def test_a_target_in_lambda_shows_no_fuel_of_a_measured_ratio(tmp_path):
    """The mixture follows its target within a per cent, a little lean: their ratio is nearly the same, and not the fuel's."""
    rng = np.random.default_rng(5)
    wanted = [round(0.80 + 0.1 * i / len(T), 2) for i in range(len(T))]
    lean = [f"{w * 1.01 * 14.7 * (1 + 0.004 * e):.2f}" for w, e in zip(wanted, rng.normal(size=len(T)), strict=True)]
    head = [*named(lambda_measured="AFR (A/F)"), "Lambda target"]
    table = [[*r, str(w)] for r, w in zip(rows(lambda_measured=np.array(lean, float)), wanted, strict=True)]
    log = read_log(written(tmp_path, text(head, table)))
    assert log.channel("lambda_target").doubt is None
    assert log.channel("lambda_measured").doubt.about == "fuel"
