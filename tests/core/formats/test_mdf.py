"""MDF 4 as foreign loggers leave it: cut off, words for what is missing, stamps that are no seconds, one signal twice."""

import io
import zipfile

import numpy as np
import pytest
from mdf_files import mdf_bytes

from yarvic.core.errors import FormatError
from yarvic.core.formats.logs.import_log import import_logs, read_file
from yarvic.core.formats.logs.read import read_recordings

asammdf = pytest.importorskip("asammdf")
T = np.arange(0.0, 20.0, 0.02)
SPEED, OPEN = 1500.0 + 250.0 * T, np.full(T.size, 100.0)
DRIVE = {"RPM": ("rpm", SPEED), "TPS": ("%", OPEN), "IAT": ("degC", 30.0 + T)}
SLOW = {"ECT": ("degC", 80.0 + 0.2 * T[::10])}


def log_of(tmp_path, data, name="a.mf4"):
    path = tmp_path / name
    path.write_bytes(data)
    [found] = import_logs(path)
    return found.log


def test_what_a_logger_writes_is_read(tmp_path):
    log = log_of(tmp_path, mdf_bytes((DRIVE, T, "s", 1), (SLOW, T[::10], "s", 1)))
    np.testing.assert_allclose(log.channel("engine_speed").values, SPEED)
    assert log.channel("coolant_temperature").time_s.size == T[::10].size


@pytest.mark.parametrize("share", [0.97, 0.8, 0.5, 0.2])
def test_a_file_that_is_cut_off_gives_what_it_holds(tmp_path, share, capfd):
    """The second group's records end the file: it loses them first, then the first group its last ones."""
    data = mdf_bytes((DRIVE, T, "s", 1), (SLOW, T[::10], "s", 1))
    log = log_of(tmp_path, data[: int(share * len(data))])
    speed = log.channel("engine_speed").values
    assert 100 < speed.size <= T.size
    np.testing.assert_allclose(speed, SPEED[: speed.size])
    assert any("is cut off" in note for note in log.notes)
    assert "Traceback" not in capfd.readouterr().err


def test_a_file_without_its_description_is_refused_in_a_word(tmp_path, capfd):
    with asammdf.MDF(version="4.10") as file:
        file.append([asammdf.Signal(SPEED, T, unit="rpm", name="RPM")])
        path = file.save(tmp_path / "whole.mf4")
    data = path.read_bytes()
    for share in (0.99, 0.6, 0.1):
        with pytest.raises(FormatError, match=r"cut off|cannot be read as MDF"):
            log_of(tmp_path, data[: int(share * len(data))])
    early = mdf_bytes((DRIVE, T, "s", 1))[:700]
    with pytest.raises(FormatError, match=r"cut off|cannot be read as MDF"):
        log_of(tmp_path, early)
    assert "Traceback" not in capfd.readouterr().err


def test_words_between_numbers_are_missing_and_said(tmp_path):
    """A conversion that names codes and passes numbers through: 65535 is 'sensor fault' and no speed."""
    raw = SPEED.copy()
    raw[50:60] = 65535.0
    conversion = {"val_0": 65535, "text_0": b"sensor fault", "default_addr": {"a": 1.0, "b": 0.0}}
    with asammdf.MDF(version="4.10") as file:
        file.append([
            asammdf.Signal(raw.astype("<u2"), T, unit="rpm", name="RPM", conversion=conversion),
            asammdf.Signal(OPEN, T, unit="%", name="TPS"),
        ])  # fmt: skip
        path = file.save(tmp_path / "a.mf4")
    log = log_of(tmp_path, path.read_bytes(), "b.mf4")
    speed = log.channel("engine_speed")
    assert np.isnan(speed.values[50:60]).all() and speed.values[:50] == pytest.approx(np.floor(SPEED[:50]))
    assert any("10 samples are words of its conversion" in note for note in log.notes)


@pytest.mark.parametrize(("unit", "factor"), [("ms", 1e3), ("s", 1.0)])
def test_stamps_in_another_unit_are_seconds(tmp_path, unit, factor):
    log = log_of(tmp_path, mdf_bytes((DRIVE, T * factor, unit, 1)))
    np.testing.assert_allclose(log.channel("engine_speed").time_s, T, atol=1e-9)


@pytest.mark.parametrize(("sync", "by"), [(2, "angle"), (3, "distance"), (4, "index")])
def test_stamps_that_are_no_time_are_said(tmp_path, sync, by):
    with pytest.raises(FormatError, match=f"stamps of {by} and none of time"):
        log_of(tmp_path, mdf_bytes((DRIVE, T, "", sync)))
    log = log_of(tmp_path, mdf_bytes((DRIVE, T, "s", 1), ({"p_cyl": ("bar", T)}, T, "deg", sync)))
    assert "engine_speed" in log.channels and any(f"1 channel is stamped by {by}" in n for n in log.notes)


def test_one_signal_in_two_rasters_is_taken_once_and_not_asked(tmp_path):
    twice = {"RPM": ("rpm", SPEED[::10])}
    log = log_of(tmp_path, mdf_bytes((twice, T[::10], "s", 1), (DRIVE, T, "s", 1)))
    assert log.channel("engine_speed").time_s.size == T.size and log.channel("engine_speed").doubt is None
    # One that shows something else is asked about.
    other = {"RPM": ("rpm", SPEED[::10] * 0.7)}
    log = log_of(tmp_path, mdf_bytes((other, T[::10], "s", 1), (DRIVE, T, "s", 1)))
    assert log.channel("engine_speed").doubt is not None


def test_each_group_is_read_in_one_pass(monkeypatch):
    calls = []
    select = asammdf.MDF.select
    monkeypatch.setattr(asammdf.MDF, "select", lambda self, *a, **k: calls.append(a) or select(self, *a, **k))
    monkeypatch.setattr(asammdf.blocks.mdf_v4.MDF4, "get", forbidden(asammdf.blocks.mdf_v4.MDF4.get, calls))
    read_recordings.inside(mdf_bytes((DRIVE, T, "s", 1), (SLOW, T[::10], "s", 1)), "a.mf4")
    assert len([c for c in calls if c != "get"]) == 2


def forbidden(get, calls):
    def seen(self, *a, **k):
        calls.append("get")
        return get(self, *a, **k)

    return seen


# -- packed


def csv_text():
    rows = [f"{t:.3f},{n:.1f},100,{30 + t:.2f}" for t, n in zip(T, SPEED, strict=True)]
    return "\n".join(["Time (s),RPM (rpm),TPS (%),IAT (C)", *rows])


def test_a_zip_of_gzip_workbook_parquet_and_mdf(tmp_path):
    import gzip

    import openpyxl
    import polars as pl

    book, sheet_bytes, parquet = openpyxl.Workbook(), io.BytesIO(), io.BytesIO()
    for line in csv_text().splitlines():
        book.active.append([float(c) if c[:1].isdigit() else c for c in line.split(",")])
    book.save(sheet_bytes)
    pl.DataFrame({"Time (s)": T, "RPM (rpm)": SPEED, "TPS (%)": OPEN, "IAT (C)": 30 + T}).write_parquet(parquet)
    path = tmp_path / "all.zip"
    with zipfile.ZipFile(path, "w") as archive:
        archive.writestr("1.csv.gz", gzip.compress(csv_text().encode()))
        archive.writestr("2.xlsx", sheet_bytes.getvalue())
        archive.writestr("3.parquet", parquet.getvalue())
        archive.writestr("4.mf4", mdf_bytes((DRIVE, T, "s", 1)))
        archive.writestr("5.csv", csv_text())
    found = import_logs(path)
    assert [f.part.partition(",")[0] for f in found] == ["1.csv.gz", "2.xlsx", "3.parquet", "4.mf4", "5.csv"]
    for each in found:
        np.testing.assert_allclose(each.log.channel("engine_speed").values, SPEED, atol=0.06)


def test_what_is_packed_over_and_over_is_refused(tmp_path):
    inner = csv_text().encode()
    for n in range(3):
        buffer = io.BytesIO()
        with zipfile.ZipFile(buffer, "w") as archive:
            archive.writestr(f"{n}.gz", inner)
        inner = buffer.getvalue()
    path = tmp_path / "deep.zip"
    path.write_bytes(inner)
    with pytest.raises(FormatError, match="packed over and over"):
        read_file(path)
