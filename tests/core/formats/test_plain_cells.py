"""Texts that we write into cells: no program takes one for a formula, and our own reader takes back what was written."""

import csv
import io

import numpy as np
import openpyxl
import pytest
from hypothesis import example, given
from hypothesis import strategies as st

from yarvic.bench.vehicles import layout_text, stock_image
from yarvic.core.calibration.image import Image
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.errors import FormatError
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.formats.csv_log import write_csv_log
from yarvic.core.formats.logs.read import read_recordings
from yarvic.core.formats.plain_cell import from_cell, plain_cell
from yarvic.core.formats.tables import read_tables_csv, tables_to_csv
from yarvic.core.formats.tables_xlsx import read_tables_xlsx, tables_to_xlsx

FORMULAS = ["=1+1", "+1", "-1", "@sum(a1)", '=cmd|" /C calc"!A1', "\t=1", "\r=1", "-", "=", "--", "-2+3+cmd"]


@given(st.text(max_size=30))
@example("'=1")
@example("''")
@example("'")
@example("''=x")
def test_a_text_comes_back_as_it_was(text):
    assert from_cell(plain_cell(text)) == text
    assert not plain_cell(text).startswith(("=", "+", "-", "@", "\t", "\r", "\n"))


@pytest.fixture
def image():
    """Maps whose slot, keys, titles and units begin as formulas do."""
    layout = parse_layout(layout_text("fieldfare"))
    entries = list(layout.entries)
    for at, text in enumerate(FORMULAS[:5]):
        entries[at] = entries[at].model_copy(update={"key": text, "title": text, "unit": text})
    return Image(layout.model_copy(update={"entries": tuple(entries)}), stock_image("fieldfare"))


def cells_of(path):
    if path.suffix == ".csv":
        return [cell for row in csv.reader(io.StringIO(path.read_text())) for cell in row]
    book = openpyxl.load_workbook(path)
    return [c for sheet in book for row in sheet.iter_rows() for c in row]


@pytest.mark.parametrize("form", ["csv", "xlsx"])
def test_tables_are_written_without_formulas_and_read_back(tmp_path, image, form):
    path, slots = tmp_path / f"t.{form}", image.layout.sets[:1]
    written = tables_to_csv(image, slots) if form == "csv" else tables_to_xlsx(image, "A1", slots)
    path.write_bytes(written.encode() if isinstance(written, str) else written)
    if form == "csv":
        for cell in cells_of(path):
            assert not cell.startswith(("=", "+", "@", "\t", "\r")) and (
                not cell.startswith("-") or float(cell) <= 0.0
            )
        found = read_tables_csv(path)
    else:
        assert not [c.value for c in cells_of(path) if c.data_type == "f"]
        found = read_tables_xlsx(path)
    keys = {c.key for c in found}
    assert keys == {*image[slots[0]].tables, *image[slots[0]].scalars}
    for cells in found:
        thing = image[slots[0]].tables.get(cells.key)
        if thing is not None:
            np.testing.assert_allclose(cells.values, thing.values, rtol=1e-12)


def test_a_log_is_written_without_formulas_and_its_names_come_back(tmp_path):
    t = np.arange(0.0, 5.0, 0.1)
    names = ["=cmd()", "-Lambda", "@x", "+y", "'=z", "plain"]
    log = Log({n: Channel(n, n, "", "", t, -np.cos(t) - k) for k, n in enumerate(names)})
    text = write_csv_log(log)
    head = next(csv.reader(io.StringIO(text)))
    assert not any(cell.startswith(("=", "+", "-", "@")) for cell in head)
    (raw,) = read_recordings.inside(text.encode(), "a.csv")
    assert [c.name for c in raw.columns] == names
    assert raw.columns[1].values[0] == pytest.approx(-2.0)


@pytest.mark.parametrize("damage", ["x" * 200_000, "a\0b", '"' + "y" * 150_000])
def test_cells_without_end_are_refused_with_their_line(tmp_path, image, damage):
    path = tmp_path / "t.csv"
    text = tables_to_csv(image, image.layout.sets[:1])
    lines = text.splitlines(keepends=True)
    path.write_text("".join([*lines[:2], damage + ",1\n", *lines[2:]]))
    with pytest.raises(FormatError, match="line") as caught:
        read_tables_csv(path)
    assert caught.value.remedy
