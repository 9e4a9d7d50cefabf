"""Tables out to files and back, exact to the stored bit; and what of a file is refused, by name."""

import csv
import html.parser
import io
import re
from importlib.resources import files

import numpy as np
import openpyxl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yarvic.core.calibration.axes import with_axis
from yarvic.core.calibration.compare import compare
from yarvic.core.calibration.image import Image
from yarvic.core.errors import YarvicError
from yarvic.core.formats.descriptions import read_description, under
from yarvic.core.formats.images import in_memory, read_image
from yarvic.core.formats.map_book import Reason, map_book
from yarvic.core.formats.tables import edits_from, read_tables_csv, read_tables_json, tables_to_csv, tables_to_json
from yarvic.core.formats.tables_xlsx import HEAD, differences_to_xlsx, read_tables_xlsx, tables_to_xlsx

SLOT = "RON 95"
NUMBER = re.compile(r"-?\d+\.\d+(e-?\d+)?")


@pytest.fixture
def image(layout, stock):
    return Image(layout, stock)


def written(image, form, keys=None):
    slots = list(image.layout.sets)
    if form == "xlsx":
        return tables_to_xlsx(image, "A1", slots, keys)
    return (tables_to_csv(image, slots, keys) if form == "csv" else tables_to_json(image, "A1", slots, keys)).encode()


READ = {"csv": read_tables_csv, "json": read_tables_json, "xlsx": read_tables_xlsx}


def shaken(image, seed):
    """The same maps with every table's stored numbers drawn anew, within their bounds."""
    random = np.random.default_rng(seed)
    for slot in image.layout.sets:
        for table in image[slot].tables.values():
            low, high = max(table.low, -1e6), min(table.high, 1e6)
            values = table.with_values(random.uniform(low, high, table.values.shape))
            image = image.with_edits(image.edits_to(slot, values, "x"))
    return image


@given(st.integers(0, 1000), st.sampled_from(["csv", "json", "xlsx"]))
@settings(max_examples=12, deadline=None)
def test_what_is_written_is_read_again_to_the_bit(layout, stock, tmp_path_factory, seed, form):
    start = Image(layout, stock)
    other = shaken(start, seed)
    path = tmp_path_factory.mktemp("t") / f"t.{form}"
    path.write_bytes(written(other, form))
    step = edits_from(start, READ[form](path), "x")
    assert start.with_edits(step).data == other.data
    assert edits_from(other, READ[form](path), "x") == ()


def test_every_kind_of_entry_of_a_foreign_unit_comes_back(tmp_path):
    """Words, masks, curves, blocks and falling axes of a description, through every form."""
    folder = files("yarvic.demo").joinpath("data/whinchat")
    names = {p.name: p for p in folder.iterdir()}
    description = next(p for n, p in names.items() if n.endswith(".a2l"))
    picture = next(p for n, p in names.items() if n.endswith(".hex"))
    layout, faults = read_description(description)
    layout = under(layout, faults, read_image(picture), None).layout
    start = Image(layout, in_memory(read_image(picture), layout))
    for form, read in READ.items():
        path = tmp_path / f"w.{form}"
        path.write_bytes(written(start, form))
        assert edits_from(start, read(path), "x") == ()
        assert len(read(path)) == len(start["Maps"].tables) + len(start["Maps"].scalars)


def changed(path, form, was, now):
    if form == "xlsx":
        book = openpyxl.load_workbook(path)
        for sheet in book.worksheets:
            for row in sheet.iter_rows():
                for cell in row:
                    if cell.value == was:
                        cell.value = now
                        book.save(path)
                        return
        raise AssertionError("not there")
    path.write_text(path.read_text().replace(str(was), str(now), 1))


@pytest.mark.parametrize("form", ["csv", "json", "xlsx"])
def test_one_cell_is_one_edit_and_a_wrong_one_none(image, tmp_path, form):
    path = tmp_path / f"t.{form}"
    path.write_bytes(written(image, form, ["spark_advance"]))
    value = float(image[SLOT].table("spark_advance").values[0, 0])
    changed(path, form, value, 12.5)
    [edit] = edits_from(image, READ[form](path), "x")
    assert edit.slot == SLOT and edit.cells == ((0, 0),)
    changed(path, form, 12.5, 999.0)
    with pytest.raises(YarvicError, match="outside the bounds") as caught:
        edits_from(image, READ[form](path), "x")
    assert path.name in str(caught.value) and caught.value.remedy


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ("entry,RON 95,spark_advance", "entry,RON 95,no_such", "no table or value 'no_such'"),
        ("entry,RON 95,spark_advance", "entry,E99,spark_advance", "no slot 'E99'"),
        ("entry,RON 95", "table,RON 95", "does not begin with a line that names its table"),
        ("1000.0,1500.0", "1500.0,1000.0", "must be finite and rise"),
        ("1000.0,1500.0", "1000.0,fast", "column 3 is 'fast', no number"),
        ("1000.0,1500.0", "1000.0", "has 13 cells, its axis 12"),
        ("20.0,", "inf,", "column 1 is .inf., no number"),
    ],
)
def test_what_does_not_fit_is_named(image, tmp_path, old, new, message):
    path = tmp_path / "t.csv"
    text = written(image, "csv", ["spark_advance"]).decode()
    assert old in text
    path.write_text(text.replace(old, new, 1))
    with pytest.raises(YarvicError, match=message) as caught:
        edits_from(image, read_tables_csv(path), "x")
    assert "t.csv" in str(caught.value)


def test_formulas_merged_cells_and_other_workbooks_are_refused(image, tmp_path):
    path = tmp_path / "t.xlsx"
    data = written(image, "xlsx", ["spark_advance"])

    def saved(change):
        book = openpyxl.load_workbook(io.BytesIO(data))
        change(book)
        book.save(path)
        with pytest.raises(YarvicError) as caught:
            read_tables_xlsx(path)
        return str(caught.value)

    def sheet(book):
        return book["spark_advance"]

    assert "cell C5 holds a formula" in saved(lambda b: sheet(b).__setitem__("C5", "=B5+1"))
    assert "merged cells (B4:C4)" in saved(lambda b: sheet(b).merge_cells("B4:C4"))
    assert "cell D6 is 'lots', no number" in saved(lambda b: sheet(b).__setitem__("D6", "lots"))
    path.write_bytes(b"PK\x03\x04nothing")
    with pytest.raises(YarvicError, match="cannot be read as a workbook"):
        read_tables_xlsx(path)
    book = openpyxl.Workbook()
    book.save(path)
    with pytest.raises(YarvicError, match="holds no tables"):
        read_tables_xlsx(path)


def test_differences_as_a_workbook(image):
    other = shaken(image, 3)
    found = [(SLOT, d) for d in compare(image[SLOT], other[SLOT])]
    book = openpyxl.load_workbook(io.BytesIO(differences_to_xlsx("A1 against B1", found)))
    rows = list(book["Differences"].iter_rows(values_only=True))
    assert rows[0][0] == "A1 against B1" and len(rows) == len(found) + 2
    assert rows[2][1] == found[0][1].key and rows[2][4] == found[0][1].cells


class _Tags(html.parser.HTMLParser):
    def __init__(self):
        super().__init__()
        self.tables, self.moved, self.text = 0, 0, []

    def handle_starttag(self, tag, attrs):
        self.tables += tag == "table"
        self.moved += tag == "td" and ("class", "moved") in attrs

    def handle_data(self, data):
        self.text.append(data)


def test_the_book_has_every_table_the_reasons_and_what_differs(image):
    spark = image[SLOT].table("spark_advance")
    values = spark.values.copy()
    values[2, 3] += 1.5
    other = image.with_edits(image.edits_to(SLOT, spark.with_values(values), "x"))
    book = map_book(other, "B1", "Buggy <1>", [Reason("A1", "2024-05-01", "R. S.", "less & less")], image, "A1")
    seen = _Tags()
    seen.feed(book)
    text = " ".join(seen.text)
    assert seen.tables == sum(len(image[s].tables) for s in image.layout.sets) and seen.moved == 1
    assert "less & less" in text and "+1.5" in text and "Buggy <1>" in text and "Rev limit: 6600 rpm" in text


@pytest.mark.parametrize("place", ["first x", "middle x", "last x", "first y", "last y"])
def test_a_wiped_break_point_is_said_and_moves_no_cell(image, tmp_path, place):
    """Without it the axis would close up, and every value behind it stand one place off."""
    path = tmp_path / "t.xlsx"
    path.write_bytes(written(image, "xlsx", ["spark_advance"]))
    book = openpyxl.load_workbook(path)
    sheet = next(s for s in book.worksheets if s["A1"].value == "slot")
    across = [c for c in sheet[3][1:] if c.value is not None]
    down = [r[0] for r in sheet.iter_rows(min_row=HEAD + 1) if r[0].value is not None]
    cell = {
        "first x": across[0], "middle x": across[len(across) // 2], "last x": across[-1], "first y": down[0],
        "last y": down[-1],
    }[place]  # fmt: skip
    cell.value = None
    book.save(path)
    with pytest.raises(YarvicError, match=f"cell {cell.coordinate} is empty") as told:
        read_tables_xlsx(path)
    assert sheet.title[:10] in str(told.value) and told.value.remedy


def resaved(text, mark, comma, pad=True):
    """CSV as a spreadsheet saves it again: all rows of one width, its own mark between cells and before fractions."""
    rows = list(csv.reader(io.StringIO(text)))
    width = max(len(r) for r in rows) if pad else 0
    out = io.StringIO()
    writer = csv.writer(out, delimiter=mark, lineterminator="\r\n")
    for row in rows:
        named = row[:1] == ["entry"]
        shown = [c.replace(".", ",") if comma and not named and NUMBER.fullmatch(c) else c for c in row]
        writer.writerow([*shown, *[""] * (width - len(shown))])
    return "\ufeff" + out.getvalue()


@pytest.mark.parametrize(("mark", "comma"), [(",", False), (";", False), (";", True), ("\t", True), ("\t", False)])
def test_csv_as_a_spreadsheet_saves_it_again(image, tmp_path, mark, comma):
    other = shaken(image, 3)
    path = tmp_path / "t.csv"
    path.write_text(resaved(written(other, "csv").decode(), mark, comma), newline="")
    assert image.with_edits(edits_from(image, read_tables_csv(path), "x")).data == other.data


def test_a_break_point_wiped_out_of_a_padded_csv_moves_no_cell(image, tmp_path):
    table = image[SLOT].table("spark_advance")
    text = resaved(written(image, "csv", ["spark_advance"]).decode(), ";", True)
    path = tmp_path / "t.csv"
    lines = text.splitlines()
    for place in (1, 3, table.x.values.size):  # the first, one within, the last
        head = lines[1].split(";")
        head[place] = ""
        path.write_text("\n".join([lines[0], ";".join(head), *lines[2:]]))
        with pytest.raises(YarvicError, match=r"break point belongs|its axis"):
            read_tables_csv(path)
    side = lines[3].split(";")
    path.write_text("\n".join([*lines[:3], ";".join(["", *side[1:]]), *lines[4:]]))
    with pytest.raises(YarvicError, match="column 1 is empty, where a break point belongs") as caught:
        read_tables_csv(path)
    assert "line 4" in str(caught.value)


def test_points_among_decimal_commas_are_refused(image, tmp_path):
    text = resaved(written(image, "csv", ["spark_advance"]).decode(), ";", True)
    lines = text.splitlines()
    cells = lines[2].split(";")
    for odd in ("1.234", "1.234,5"):
        path = tmp_path / "t.csv"
        path.write_text("\n".join([*lines[:2], ";".join([cells[0], odd, *cells[2:]]), *lines[3:]]))
        with pytest.raises(YarvicError, match="column 2") as caught:
            read_tables_csv(path)
        assert "with a comma" in str(caught.value)


def test_the_book_marks_break_points_that_moved_and_texts(image):
    table = image[SLOT].table("spark_advance")
    points = table.x.values.copy()
    points[2] += 50.0
    moved = with_axis(table, "x", points)
    other = image.with_edits(image.edits_to(SLOT, moved, "x"))
    book = map_book(other, "B1", "Buggy", [], image, "A1")
    assert f"<th class=moved><sup>was {points[2] - 50:g}</sup>{points[2]:g}</th>" in book
    assert "break points moved" in book and "class=moved" not in map_book(image, "A1", "Buggy", [], image, "A1")
