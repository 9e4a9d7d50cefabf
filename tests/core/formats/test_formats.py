"""Formats: dump, reload, compare; and hostile files."""

import json
import random

import bincopy
import numpy as np
import pytest
from evidence_files import read_log

from yarvic.bench.vehicles import stock_calibrations
from yarvic.core.calibration.compare import compare
from yarvic.core.errors import CalibrationError, FormatError
from yarvic.core.evidence.taking import UNKNOWN
from yarvic.core.formats.csv_log import write_csv_log
from yarvic.core.formats.files import write_whole
from yarvic.core.formats.images import hex_to_image, image_to_hex, read_image, write_image
from yarvic.core.formats.maps import maps_from_json, maps_to_csv, maps_to_json
from yarvic.core.reading import read_bounded


def write(path, text):
    path.write_text(text)
    return path


# -- CSV logs


def test_a_bench_log_survives_csv(tmp_path, pulled):
    log, _ = pulled
    path = write(tmp_path / "log.csv", write_csv_log(log))
    again = read_log(path)
    assert set(again.channels) == set(log.channels)
    t = np.arange(1.0, 10.0, 0.5)
    for key in log.channels:
        scale = np.nanmax(np.abs(log.channels[key].values)) + 1e-9
        assert np.allclose(again.at(key, t), log.at(key, t), atol=2e-3 * scale), key


def test_units_are_converted_at_the_border(tmp_path):
    text = (
        "time [ms],RPM [1/min],Boost (psi),IAT [°F],Lambda,TPS [%]\n0,1000,14.5,77,0.85,100\n20,1100,15,78,0.86,100\n"
    )
    log = read_log(write(tmp_path / "a.csv", text))
    assert log.channel("engine_speed").time_s.tolist() == [0.0, 0.02]
    assert log.channel("boost_pressure").values[0] == pytest.approx(14.5 * 6894.757, rel=1e-6)
    assert log.channel("charge_temperature").values[0] == pytest.approx(298.15)
    assert log.channel("throttle").values[0] == pytest.approx(1.0)
    assert log.channel("lambda_measured").values[1] == 0.86


def test_air_fuel_ratios_need_their_fuel(tmp_path):
    path = write(tmp_path / "a.csv", "time [s],AFR [AFR]\n0,13.14\n0.1,12.5\n")
    assert read_log(path).channel("lambda_measured").doubt.about == "fuel"
    assert read_log(path, stoichiometric_afr=14.6).channel("lambda_measured").values[0] == pytest.approx(0.9)


def test_unknown_names_are_kept_without_a_unit(tmp_path):
    log = read_log(write(tmp_path / "a.csv", "time [s],cup holder [warm]\n0,1\n1,2\n"))
    assert log.channels["cup holder [warm]"].quantity == UNKNOWN


def test_empty_fields_are_missing_numbers(tmp_path):
    log = read_log(write(tmp_path / "a.csv", "time [s],RPM [rpm]\n0,1000\n1,\n2,NaN\n3,-\n4,1200\n"))
    assert np.isnan(log.channel("engine_speed").values[1:4]).all()


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("", "holds no rows"),
        ("time [s],RPM [rpm]\n", "holds no rows"),
        ("RPM [rpm],TPS [%]\n1,2\n2,3\n3,3\n", "no time column"),
        ("time [s]\n0\n1\n", "no rows of numbers"),
        ("time [s],RPM [rpm]\n0,1000\n1,1100,7,8\n2,9,9,9\n3,9,9,9\n", "another number of fields"),
    ],
)
def test_logs_that_cannot_be_read_say_why(tmp_path, text, message):
    path = write(tmp_path / "bad.csv", text)
    with pytest.raises(FormatError, match=message) as caught:
        read_log(path)
    assert "bad.csv" in str(caught.value)
    assert caught.value.remedy


def test_a_bad_number_is_missing_and_names_its_line(tmp_path):
    rows = "".join(f"{i},1000\n" for i in range(2000))
    log = read_log(write(tmp_path / "a.csv", f"time [s],RPM [rpm]\n{rows}2000,oops\n"))
    assert (
        np.isnan(log.channel("engine_speed").values[-1])
        and np.isfinite(log.channel("engine_speed").values[:-1]).all()
    )
    said = " ".join(log.notes)
    assert "1 field is no number" in said and "line 2,002" in said and "RPM" in said and "oops" not in said


def test_whole_numbers_that_become_decimals_far_down_are_numbers(tmp_path):
    rows = "".join(f"{i};1000\n" for i in range(2000))
    log = read_log(write(tmp_path / "a.csv", f"time [s];RPM [rpm]\n{rows}2000;1000,5\n"))
    assert log.channel("engine_speed").values[-1] == 1000.5


@pytest.mark.parametrize("field", ["1,000", "12,345", "1.000,5"])
def test_a_comma_far_down_that_may_be_anything_is_no_decimal_comma(tmp_path, field):
    """Half a thousand or one: it cannot be known, so the field is missing, and named."""
    rows = "".join(f"{i}.5;{i}\n" for i in range(2000))
    log = read_log(write(tmp_path / "a.csv", f"time [s];RPM [rpm]\n{rows}2000.5;{field}\n"))
    assert np.isnan(log.channel("engine_speed").values[-1])
    assert any("line 2,002" in note for note in log.notes)


def test_numbers_without_end_are_missing_and_said(tmp_path):
    log = read_log(write(tmp_path / "a.csv", "time [s],RPM [rpm]\n0,1000\n1,inf\n2,-1e999\n"))
    assert np.isnan(log.channel("engine_speed").values[1:]).all()
    assert any("2 numbers without end" in note for note in log.notes)


@pytest.mark.parametrize("data", [b"\x00" * 500, b"\xff\xfe" + b"x" * 90, bytes(range(256)) * 20])
def test_binary_is_no_csv(tmp_path, data):
    path = tmp_path / "a.csv"
    path.write_bytes(data)
    with pytest.raises(FormatError):
        read_log(path)
    with pytest.raises(FormatError):
        read_log(tmp_path / "none.csv")


# -- images


def test_hex_gives_the_image_back(stock, tmp_path):
    text = image_to_hex(stock)
    assert text.startswith(":") and text.rstrip().endswith(":00000001FF")
    assert hex_to_image(text, len(stock)) == stock
    write_image(tmp_path / "a.hex", stock, "hex")
    assert read_image(tmp_path / "a.hex").data == stock
    (tmp_path / "a.bin").write_bytes(stock)
    assert read_image(tmp_path / "a.bin").data == stock


def test_a_hex_record_by_the_specification():
    # Worked record of the Intel HEX specification (1988), data record: checksum is the two's complement of the sum.
    text = ":10010000214601360121470136007EFE09D2190140\n:00000001FF\n"
    image = hex_to_image(text, 1024)
    assert image[0x100:0x110].hex() == "214601360121470136007efe09d21901"
    assert image[:0x100] == b"\xff" * 0x100


@pytest.mark.parametrize(
    ("text", "message"),
    [
        (":10010000214601360121470136007EFE09D2190141\n", "line 1: is damaged: a record's checksum"),
        (":0400000001020304F2\n", "has no end"),
        (":0400000001020304F2\n:0400020001020304F0\n:00000001FF\n", "line 2: writes address 0x2 a second time"),
        (":00000001FF\n:0400000001020304F2\n", "goes on behind its end"),
        (":00000009F7\n", "unknown kind"),
        (":0400000001020304F2 \u0661\n", "not Intel HEX"),
        ("hello\n", "not Intel HEX"),
        (":00000001FF\n", "no data"),
        (":020000040800F2\n:0400000001020304F2\n:00000001FF\n", "reaches address"),
    ],
)
def test_other_text_is_no_hex(text, message):
    with pytest.raises(FormatError, match=message):
        hex_to_image(text, 65536, source="x.hex")


def test_hex_in_any_order_is_read_in_one_pass():
    data = bytes(range(1, 255)) * 500
    lines = []
    for at in range(0, len(data), 2):
        body = bytes([2, at >> 8 & 0xFF, at & 0xFF, 0]) + data[at : at + 2]
        upper = bytes([2, 0, 0, 4, 0, at >> 16])
        lines += [f":{b.hex()}{-sum(b) & 0xFF:02x}" for b in (upper, body)]
    pairs = list(zip(lines[::2], lines[1::2], strict=True))
    random.Random(4).shuffle(pairs)
    text = "\n".join(line for pair in pairs for line in pair) + "\n:00000001FF\n"
    looked = hex_to_image(text, len(data))
    assert looked == data
    # Against bincopy, which reads the same records.
    file = bincopy.BinFile()
    file.add_ihex(text[: 30 * 600] + ":00000001FF\n")
    few = hex_to_image(text[: 30 * 600] + ":00000001FF\n", len(data))
    assert all(few[start : start + len(chunk)] == bytes(chunk) for start, chunk in file.segments)


def test_reading_is_bounded(tmp_path):
    path = tmp_path / "big"
    path.write_bytes(b"x" * 100)
    with pytest.raises(FormatError, match="at most"):
        read_bounded(path, 50)
    with pytest.raises(FormatError, match="is not there"):
        read_bounded(tmp_path / "none", 50)


def test_writing_is_whole_or_not_at_all(tmp_path):
    target = tmp_path / "a"
    write_whole(target, b"one")
    assert target.read_bytes() == b"one"
    with pytest.raises(FormatError, match="is not there") as caught:
        write_whole(tmp_path / "no such folder" / "a", b"two")
    assert caught.value.remedy
    assert [p.name for p in tmp_path.iterdir()] == ["a"]


# -- maps


def test_maps_survive_json(layout):
    maps = stock_calibrations(layout)["RON 95"]
    again = maps_from_json(maps_to_json(maps))
    assert compare(maps, again) == []
    assert again.family == maps.family and again.slot == maps.slot
    assert maps_to_json(again) == maps_to_json(maps)


def test_maps_as_csv_can_be_read_by_a_person(layout):
    maps = stock_calibrations(layout)["RON 95"]
    lines = maps_to_csv(maps).splitlines()
    assert lines[0] == "Spark advance,[deg],slot RON 95"
    assert lines[1].startswith("Cylinder filling [%] \\ Engine speed [rpm],1000,1500")
    assert lines[2].split(",")[0] == "20"
    assert float(lines[2].split(",")[1]) == maps.table("spark_advance").values[0, 0]
    assert any(line.startswith("Rev limit,[rpm],") for line in lines)


@pytest.mark.parametrize(
    ("damage", "message"),
    [
        (lambda d: d.update(kind="other"), "kind"),
        (lambda d: d["tables"]["spark_advance"]["values"].pop(), "do not fit"),
        (lambda d: d["tables"]["spark_advance"]["values"][0].pop(), "unequal length"),
        (lambda d: d["tables"]["spark_advance"]["values"][0].__setitem__(0, 99.0), "outside its bounds"),
        (lambda d: d["tables"]["spark_advance"].pop("unit"), "unit"),
        (lambda d: d["tables"]["spark_advance"].update(step=0), "step"),
        (lambda d: d["scalars"]["rev_limit"].update(value="fast"), "value"),
        (lambda d: d.update(surprise=1), "surprise"),
    ],
)
def test_maps_that_cannot_be_are_refused(layout, damage, message):
    document = json.loads(maps_to_json(stock_calibrations(layout)["RON 95"]))
    damage(document)
    with pytest.raises((FormatError, CalibrationError), match=message):
        maps_from_json(json.dumps(document))


@pytest.mark.parametrize("text", ["", "{", "[]", "null", '{"kind": NaN}', "[" * 5000])
def test_text_that_is_no_maps(text):
    with pytest.raises(FormatError):
        maps_from_json(text)


def test_a_gauge_pressure_is_not_held_against_an_absolute_one_without_a_barometer(tmp_path):
    """At altitude the standard barometer would hide a shortfall of boost; alike ones differ the same anywhere."""
    t = np.arange(0.0, 4.0, 0.1)
    path = tmp_path / "log.csv"

    def doubts(boost, target, **known):
        rows = "\n".join(f"{s:.1f},{2000 + 500 * s:.0f},{100 + 5 * s:.1f},{180 + 5 * s:.1f}" for s in t)
        path.write_text(f"time [s],RPM [rpm],Boost pressure [{boost}],Boost target [{target}]\n{rows}\n")
        log = read_log(path, **known)
        return log.channel("boost_pressure").doubt, log.channel("boost_target").doubt

    assert doubts("kPa gauge", "kPa abs")[0] is not None
    assert doubts("kPa abs", "kPa gauge")[1] is not None
    assert {d.about for d in doubts("kPa gauge", "kPa gauge")} == {"reference"}
    assert doubts("kPa abs", "kPa abs") == (None, None)
    assert doubts("kPa gauge", "kPa abs", barometer_pa=85e3) == (None, None)


@pytest.mark.parametrize(
    "name", ["Knock retard cyl {}", "Knock retard{}", "Spark correction {}", "cyl{} ignition retard"]
)
def test_cylinders_that_are_numbered_from_zero_are_each_called_by_their_own_number(tmp_path, name):
    path = tmp_path / "log.csv"
    heads = ",".join(f"{name.format(i)} [deg]" for i in (2, 0, 1, 3))
    path.write_text(f"time [s],RPM [rpm],{heads}\n0,2000,-2,-9,-1,-3\n0.1,2100,-2,-9,-1,-3\n")
    log = read_log(path)
    depths = {i: abs(log.channel(f"spark_correction_{i}").values[0]) for i in (1, 2, 3, 4)}
    assert depths == {1: 9.0, 2: 1.0, 3: 2.0, 4: 3.0}
    assert any("numbered from 0" in note for note in log.notes)
    path.write_text(f"time [s],RPM [rpm],{name.format(1)} [deg]\n0,2000,-1\n0.1,2100,-1\n")
    log = read_log(path)
    assert "spark_correction_1" in log.channels and log.notes == ()
