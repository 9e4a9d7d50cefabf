"""Small files made to take a library down, or all of a machine: refused at once, with the place."""

import gzip
import io
import os
import struct
import zipfile

import openpyxl
import pytest

from tests.fuzz.targets import _rich_mdf
from yarvic.core.errors import FormatError
from yarvic.core.formats.logs.import_log import read_file
from yarvic.core.formats.logs.mdf_blocks import Damaged, block, check
from yarvic.core.formats.logs.read import read_recordings
from yarvic.core.formats.tables_xlsx import read_tables_xlsx
from yarvic.core.reading import DEFECTS

ROWS = "".join(f"{n / 10},{1000 + n},{n % 7}.5\n" for n in range(60))


@pytest.fixture(autouse=True)
def nothing_unforeseen():
    DEFECTS.clear()
    yield
    assert not DEFECTS


# -- MDF


@pytest.fixture(scope="module")
def mdf():
    return _rich_mdf()


def blocks(data, kind):
    at, found = 0, []
    while (at := data.find(b"##" + kind + b"\0\0\0\0", at)) >= 0:
        found.append(block(data, at))
        at += 8
    return found


def patched(data, at, form, *values):
    out = bytearray(data)
    struct.pack_into(form, out, at, *values)
    return bytes(out)


def test_a_whole_file_holds(mdf):
    check(mdf)
    (log,) = read_recordings.inside(mdf, "a.mf4")
    assert {"RPM", "Gear", "MAP", "Words"} <= {c.name for c in log.columns}


@pytest.mark.parametrize("offset", [1000, 1 << 20, (1 << 32) - 1])
def test_a_channel_outside_its_records_is_said(mdf, offset):
    for channel in blocks(mdf, b"CN"):
        damaged = patched(mdf, channel.fields + 4, "<I", offset)
        with pytest.raises(Damaged, match="outside its records"):
            check(damaged)
        with pytest.raises(FormatError, match="is damaged") as caught:
            read_recordings.inside(damaged, "a.mf4")
        assert caught.value.remedy


@pytest.mark.parametrize("bits", [4096, 1 << 31, (1 << 32) - 1])
def test_a_channel_of_more_bits_than_its_record_has_is_said(mdf, bits):
    channel = blocks(mdf, b"CN")[0]
    with pytest.raises(Damaged, match="outside its records"):
        check(patched(mdf, channel.fields + 8, "<I", bits))


@pytest.mark.parametrize("kind", [b"DG", b"CG", b"CN"])
def test_a_ring_is_said(mdf, kind):
    for one in blocks(mdf, kind):
        with pytest.raises(Damaged, match=r"two links lead|none of|more records"):
            check(patched(mdf, one.place + 24, "<Q", one.place))


@pytest.mark.parametrize("to", [1, 3, 63, 1 << 40, (1 << 64) - 1, -8])
def test_a_link_that_leads_to_no_block_is_said(mdf, to):
    to = len(mdf) + to if to < 0 else to
    for kind in (b"HD", b"DG", b"CG", b"CN"):
        for one in blocks(mdf, kind):
            for n, link in enumerate(one.links[:6]):
                if link:
                    with pytest.raises(Damaged):
                        check(patched(mdf, one.place + 24 + 8 * n, "<Q", to))


@pytest.mark.parametrize("count", [10**6, 1 << 40, (1 << 64) - 1])
def test_more_records_than_there_are_is_said(mdf, count):
    for group in blocks(mdf, b"CG"):
        with pytest.raises(Damaged, match="more records than are there"):
            check(patched(mdf, group.fields + 8, "<Q", count))


def test_packed_data_that_say_to_be_endless_are_said(mdf):
    packed = blocks(mdf, b"DZ")[0]
    for size in (1 << 40, (1 << 64) - 1):
        with pytest.raises(Damaged):
            check(patched(mdf, packed.fields + 8, "<Q", size))


def test_a_ring_in_a_file_that_was_cut_off_comes_to_an_end(mdf):
    group, channel = blocks(mdf, b"DG")[0], blocks(mdf, b"CN")[0]
    ring = patched(patched(mdf, group.place + 24, "<Q", group.place), channel.place + 24, "<Q", channel.place)
    with pytest.raises(FormatError):
        read_recordings.inside(ring[: len(ring) * 4 // 5], "a.mf4")


# -- workbooks


def workbook(fill, tmp_path):
    book = openpyxl.Workbook()
    sheet = book.active
    sheet.append(["time [s]", "RPM [rpm]"])
    for n in range(80):
        sheet.append([n / 10, 1000 + n])
    fill(book, sheet)
    path = tmp_path / "a.xlsx"
    book.save(path)
    return path


@pytest.mark.parametrize("read", [read_file, read_tables_xlsx])
@pytest.mark.parametrize(("row", "column"), [(1_048_576, 1), (1, 16_384), (1_048_576, 16_384), (600_000, 3)])
def test_a_cell_far_from_the_others_is_said_before_all_between_are_built(tmp_path, read, row, column):
    path = workbook(lambda book, sheet: sheet.cell(row, column, 5), tmp_path)
    with pytest.raises(FormatError, match="far from the others") as caught:
        read(path)
    assert "sheet1.xml" in caught.value.concerns and "Delete" in caught.value.remedy


def test_many_sheets_of_far_cells_are_said(tmp_path):
    def fill(book, sheet):
        for _ in range(50):
            book.create_sheet().cell(900_000, 1, 3)

    with pytest.raises(FormatError, match="far from the others"):
        read_file(workbook(fill, tmp_path))


def test_a_workbook_with_a_few_gaps_is_read(tmp_path):
    path = workbook(lambda book, sheet: sheet.cell(5000, 30, 5), tmp_path)
    (found,) = read_file(path)
    assert found.raw.columns[0].name.startswith("RPM")


@pytest.mark.parametrize("place", ["xl/worksheets/sheet1.xml", "xl/sharedStrings.xml", "xl/styles.xml"])
def test_a_workbook_that_unpacks_to_gigabytes_is_said(tmp_path, place):
    path = workbook(lambda book, sheet: None, tmp_path)
    with zipfile.ZipFile(path) as old:
        members = {n: old.read(n) for n in old.namelist()}
    members[place] = members.get(place, b"") + b" " * (200 << 20)
    with zipfile.ZipFile(path, "w", zipfile.ZIP_DEFLATED) as new:
        for name, data in members.items():
            new.writestr(name, data)
    for read in (read_file, read_tables_xlsx):
        with pytest.raises(FormatError, match="unpacks to more than"):
            read(path)


def test_entities_that_grow_without_end_are_refused(tmp_path):
    path = workbook(lambda book, sheet: None, tmp_path)
    lines = "".join(f'<!ENTITY l{n} "{f"&l{n - 1};" * 10}">' for n in range(1, 12))
    text = f'<?xml version="1.0"?><!DOCTYPE s [<!ENTITY l0 "ha">{lines}]><worksheet>&l11;</worksheet>'
    with zipfile.ZipFile(path) as old:
        members = {n: old.read(n) for n in old.namelist()}
    members["xl/worksheets/sheet1.xml"] = text.encode()
    with zipfile.ZipFile(path, "w") as new:
        for name, data in members.items():
            new.writestr(name, data)
    for read in (read_file, read_tables_xlsx):
        with pytest.raises(FormatError):
            read(path)


# -- text

HEADERS = {
    "brackets": "(" * 50_000, "words": "a " * 50_000, "blanks": " " * 100_000 + "x", "underscores": "_" * 100_000 + "a",
    "slashes": "a/" * 50_000, "scales": "x10" * 30_000, "tabs": "\t" * 20_000 + "a", "units": "kPa " * 25_000,
    "percents": "% " * 50_000, "spaced": ("x" + " " * 10) * 9000, "open": "a [" * 30_000, "joined": "aB" * 50_000,
}  # fmt: skip


@pytest.mark.parametrize("header", HEADERS)
@pytest.mark.parametrize("place", ["a name", "the first name", "a line above"])
def test_a_header_without_end_is_read_in_a_time_that_grows_with_its_length(tmp_path, header, place):
    text = HEADERS[header]
    path = tmp_path / "a.csv"
    lines = {"a name": f"time,{text},c\n", "the first name": f"{text},b,c\n", "a line above": f"{text}\ntime,b,c\n"}
    path.write_text(lines[place] + ROWS)
    try:
        for run in read_file(path):
            assert all(len(c.name) <= 200 for c in run.raw.columns)
    except FormatError as error:
        assert error.remedy and "within" not in error.what  # it was understood, not stopped


def test_words_of_a_file_are_bounded_wherever_they_stand(tmp_path):
    long = "w" * 5000
    path = tmp_path / "a.csv"
    rows = "".join(f"{n / 10},{1000 + n},{long}{n % 3}\n" for n in range(60))
    path.write_text(f"{long}: {long}\n{long}\ntime [s],{long} [{long}],{long}\n{rows}")
    for run in read_file(path):
        assert all(len(word) <= 400 for c in run.raw.columns for word in (c.name, c.unit, *c.states))
        assert all(len(k) <= 200 and len(v) <= 1000 for k, v in run.raw.facts.items())


# -- packed


def test_what_unpacks_without_end_is_said(tmp_path):
    path = tmp_path / "a.gz"
    path.write_bytes(gzip.compress(bytes(64 << 20), 9))
    with pytest.raises(FormatError, match="unpacks to more than"):
        read_file(path)
    nested = io.BytesIO()
    with zipfile.ZipFile(nested, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("a.csv", b"0" * (64 << 20))
    path.write_bytes(nested.getvalue())
    with pytest.raises(FormatError, match="unpacks to more than"):
        read_file(path)


def test_a_name_in_a_zip_leads_nowhere(tmp_path):
    path = tmp_path / "a.zip"
    with zipfile.ZipFile(path, "w") as archive:
        for name in (
            "../../up.csv",
            "/root.csv",
            "C:\\x.csv",
            "a\nb.csv",
            "log[1].csv",
            "\u202e.csv",
            "x" * 5000 + ".csv",
        ):
            archive.writestr(name, "time [s],RPM,b\n" + ROWS)
    found = read_file(path)
    assert len(found) == 7 and all(len(f.raw.part) < 400 and f.raw.part.isprintable() for f in found)
    assert sorted(os.listdir(tmp_path)) == ["a.zip"]
