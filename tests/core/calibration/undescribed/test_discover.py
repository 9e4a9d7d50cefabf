"""Tables looked for in images without a description: random layouts that the method was not made on, and another hand's."""

from itertools import pairwise

import numpy as np
import pytest

from yarvic.bench.random_images import Hidden, Score, random_image, score
from yarvic.bench.table_families import FAMILIES
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.calibration.undescribed import discover as module
from yarvic.core.calibration.undescribed.bending import bending
from yarvic.core.calibration.undescribed.byte_order import likely_order
from yarvic.core.calibration.undescribed.discover import FoundTable, discover
from yarvic.core.calibration.undescribed.numbers_seen import NumbersSeen
from yarvic.core.calibration.undescribed.proposed_layout import proposed_layout
from yarvic.core.errors import CalibrationError

SEEDS = (501, 502, 503)


@pytest.fixture(scope="module")
def searched():
    return [(image, discover(image.data)) for image in map(random_image, SEEDS)]


def test_most_hidden_tables_are_found_and_most_that_is_proposed_was_hidden(searched):
    total = sum((score(image.tables, found.tables) for image, found in searched), Score(0, 0, 0))
    assert total.hidden == 120
    # docs/table-finder.md has the figures over many more images; three of them scatter by about 0.03.
    assert total.recall > 0.86
    assert total.precision > 0.80


@pytest.mark.parametrize("family", [f for f in FAMILIES if f != "trims"])
def test_tables_of_unlike_kinds_are_found_behind_their_axes(family):
    total = Score(0, 0, 0)
    for seed in (901, 902):
        image = random_image(seed, family=family)
        own = [t for t in image.tables if not t.shared]
        total += score(own, discover(image.data).tables)
    # docs/table-finder.md has the figures over many more images, and of the kind that cannot be told.
    assert total.recall > 0.7


def test_a_table_that_is_of_one_number_up_to_a_load_is_found_whole_without_axes_before_it():
    image = random_image(903, family="threshold")
    shared = [t for t in image.tables if t.shared]
    assert len(shared) > 5 and score(shared, discover(image.data).tables).recall > 0.6


def test_bytes_side_by_side_are_no_wide_numbers():
    y, x = np.meshgrid(np.arange(12), np.arange(16), indexing="ij")
    small = (60 + 3 * y + 2 * x).astype(np.uint8)
    wide = (3000 + 700 * y + 333 * x).astype("<u2")
    flat = np.full((12, 16), 0x5B60, "<u2")
    for table, is_small in ((small.tobytes(), True), (wide.tobytes(), False), (flat.tobytes(), False)):
        seen = NumbersSeen(table, "<")
        assert seen.of_smaller(np.array([0]), "u16", np.array([len(table) // 2])).tolist() == [is_small]
    assert not NumbersSeen(small.tobytes(), "<").of_smaller(np.array([0]), "u8", np.array([192])).any()


def test_whole_steps_and_a_step_from_region_to_region_bend_little_and_noise_does_not():
    y, x = np.meshgrid(np.linspace(0, 1, 12), np.linspace(0, 1, 14), indexing="ij")
    stairs = np.round((x + y) * 4.0)
    regions = np.where(y > 0.5, 60.0 + 10.0 * x, 10.0)
    noise = np.random.default_rng(3).integers(0, 2, (12, 14)).astype(float)

    def bends(table, placed):
        whole = np.pad(table, ((1, 1), (0, 0)), constant_values=np.nan)
        with np.errstate(invalid="ignore"):
            return float(bending(whole.ravel(), np.array([12]), np.array([14]), placed=placed).bends[0])

    assert bends(stairs, True) < 0.05 and bends(regions, True) < 0.06
    assert bends(regions, False) > 0.14, "elsewhere it is two tables"
    assert bends(noise, True) > 0.14


def test_the_byte_order_is_told(searched):
    assert [found.byte_order for _, found in searched] == [image.byte_order for image, _ in searched]


def test_confidence_puts_what_is_right_first(searched):
    for _, found in searched:
        sure = [t.confidence for t in found.tables]
        assert sure == sorted(sure, reverse=True)
        assert all(0.0 < c < 1.0 for c in sure)
    likely = sum((score(image.tables, found.tables, confidence=0.8) for image, found in searched), Score(0, 0, 0))
    every = sum((score(image.tables, found.tables) for image, found in searched), Score(0, 0, 0))
    assert likely.precision >= 0.9 and likely.proposed > 0.6 * every.proposed


def test_no_two_proposals_have_a_number_in_common_their_axes_included(searched):
    for _, found in searched:
        spans = sorted((t.start, t.end) for t in found.tables)
        assert all(a[1] <= b[0] for a, b in pairwise(spans))


def test_axes_are_those_that_stand_before(searched):
    right = 0
    for image, found in searched:
        hidden = {t.address: t for t in image.tables if not t.shared}
        for table in found.tables:
            there = hidden.get(table.address)
            if there and table.x and table.y and (table.rows, table.columns) == (there.rows, there.columns):
                assert (table.x.count, table.y.count) == (table.columns, table.rows)
                right += (table.x.address, table.y.address) == (there.x_address, there.y_address)
    assert right >= 50


def _other_hand(order: str, seed: int) -> tuple[bytes, list[Hidden]]:
    """Written otherwise: axes y before x with words that count them, waves and steps for surfaces, little between."""
    random = np.random.default_rng(seed)
    code = ">" if order == "big" else "<"
    data = bytearray(random.integers(0, 256, 333).astype(np.uint8).tobytes())
    hidden = []
    for n in range(24):
        rows, columns = (int(v) for v in random.integers(6, 17, 2))
        data += random.integers(0, 256, int(random.integers(8, 200))).astype(np.uint8).tobytes()
        data += bytes(-len(data) % 4)
        data += np.array([rows, columns], code + "u2").tobytes()
        y = np.round(np.linspace(200, 2500, rows)).astype(code + "u2")
        x = np.round(800 + 6200 * np.linspace(0, 1, columns) ** 1.3).astype(code + "u2")
        data += y.tobytes() + x.tobytes()
        u, v = np.meshgrid(np.linspace(0, 1, columns), np.linspace(0, 1, rows))
        z = np.sin(2.0 * u + n) + 0.5 * np.cos(2.5 * v - n) + 0.3 * np.tanh(6.0 * (u - v))
        storage = ("u2", "i2", "u1")[n % 3]
        scale = {"u2": 9000, "i2": 5000, "u1": 50}[storage]
        middle = {"u2": 22000, "i2": 0, "u1": 125}[storage]
        name = {"u2": "u16", "i2": "i16", "u1": "u8"}[storage]
        hidden.append(Hidden(len(data), name, rows, columns, 0, 0, False))
        data += np.round(middle + scale * z).astype(code + storage).tobytes()
    return bytes(data), hidden


@pytest.mark.parametrize("order", ["big", "little"])
def test_tables_by_another_hand_are_found(order):
    data, hidden = _other_hand(order, 7)
    found = discover(data)
    assert found.byte_order == order
    result = score(hidden, found.tables)
    assert result.recall >= 0.85
    assert result.precision >= 0.80


def test_noise_erased_memory_and_nothing_hold_no_table():
    random = np.random.default_rng(1)
    noise = random.integers(0, 256, 30_000).astype(np.uint8).tobytes()
    for data in (noise, b"\xff" * 20_000, bytes(20_000), b"", b"\x01", b"abc" * 5):
        assert [t for t in discover(data).tables if min(t.rows, t.columns) >= 6] == []


def test_what_lies_across_two_parts_is_found_once(monkeypatch):
    image = random_image(504, tables=16)
    whole = score(image.tables, discover(image.data).tables)
    monkeypatch.setattr(module, "CHUNK", 4096)
    monkeypatch.setattr(module, "OVERLAP", 2048)
    found = discover(image.data)
    parts = score(image.tables, found.tables)
    assert parts.right >= whole.right - 2
    assert len({t.address for t in found.tables}) == len(found.tables)


def test_it_can_be_cancelled_and_says_how_far_it_is():
    image = random_image(505, tables=4)
    shares = []
    discover(image.data, shares.append)
    assert shares == sorted(shares)
    assert shares[-1] == pytest.approx(1.0)
    assert discover(image.data, cancelled=lambda: True).tables == ()


@pytest.mark.parametrize(("seed", "tables", "apart"), [(506, 60, 1), (507, 6, 1), (2001, 12, 200), (2005, 12, 200)])
def test_the_byte_order_of_full_and_of_sparse_images_is_told(seed, tables, apart):
    image = random_image(seed, tables=tables, apart=apart)
    assert likely_order(image.data) == image.byte_order


def bent(blocks, before=np.nan, behind=np.nan):
    """How blocks (n, rows, columns) bend, with a row before and one behind."""
    n, rows, columns = blocks.shape
    top, bottom = (np.broadcast_to(row, (n, 1, columns)) for row in (before, behind))
    whole = np.concatenate([top, blocks, bottom], axis=1)
    return bending(whole.ravel(), np.full(n, rows), np.full(n, columns))


def test_bending_is_the_mean_second_difference_over_the_span():
    """Against numpy.diff: second differences as NumPy takes them."""
    random = np.random.default_rng(3)
    block = 10.0 * np.arange(9)[None, :] - 7.0 * np.arange(8)[:, None] + random.normal(0.0, 1.0, (1, 8, 9))
    second = (np.abs(np.diff(block, n=2, axis=2)).mean() + np.abs(np.diff(block, n=2, axis=1)).mean()) / 2.0
    span = 4.0 * np.abs(block - block.mean()).mean()
    # No row or column of it bends much more than the rest, so nothing is added.
    assert bent(block).bends[0] == pytest.approx(second / span, rel=1e-12)
    plane = np.add.outer(-np.arange(6.0), 3.0 * np.arange(7.0))[None]
    assert bent(plane).bends[0] == 0.0
    assert np.isnan(bent(np.ones((1, 4, 4))).bends[0])


@pytest.mark.parametrize("placed", [False, True])
def test_blocks_of_other_shapes_bend_as_they_do_alone(placed):
    random = np.random.default_rng(4)
    shapes = [(4, 6), (9, 5), (5, 4), (12, 11)]
    blocks = [random.normal(0.0, 1.0, (rows + 2, columns)) for rows, columns in shapes]
    if placed:
        blocks = [np.floor(np.add.outer(np.arange(rows + 2.0), np.arange(columns)) / 2.0) for rows, columns in shapes]
    together = bending(np.concatenate([b.ravel() for b in blocks]), *np.array(shapes).T, placed=placed)
    alone = [
        bending(b.ravel(), np.array([r]), np.array([c]), placed=placed)
        for b, (r, c) in zip(blocks, shapes, strict=True)
    ]
    assert together.bends == pytest.approx([a.bends[0] for a in alone], rel=1e-12)
    assert together.more_above.tolist() == [a.more_above[0] for a in alone]
    assert together.more_below.tolist() == [a.more_below[0] for a in alone]


def test_a_row_out_of_step_and_a_list_are_no_table():
    plane = np.add.outer(-np.arange(8.0), 3.0 * np.arange(7.0))[None]
    split = plane.copy()
    split[:, 4:] += 40.0
    assert bent(split).bends[0] > 0.14
    rising = np.arange(56.0).reshape(1, 8, 7)
    assert np.isnan(bent(rising).bends[0])


def test_a_row_beside_goes_on_or_does_not():
    plane = np.add.outer(-np.arange(6.0), 3.0 * np.arange(7.0))[None]
    above, below = plane[:, 0] + 1.0, plane[:, -1] - 1.0
    odd = np.array([0, 9, 0, 9, 0, 9, 0])
    assert bent(plane, above, below).more_above[0]
    assert bent(plane, above, below).more_below[0]
    assert not bent(plane, above + odd, below).more_above[0]
    assert not bent(plane, above, below + odd).more_below[0]
    assert not bent(plane).more_below[0]


def test_confirmed_places_become_a_layout_that_reads_them(searched):
    image, found = searched[0]
    base = 0x8000_0000
    text = proposed_layout("SEED 501", found.byte_order, base, len(image.data), found.tables)
    layout = parse_layout(text)
    assert len(layout.entries) + len(layout.left_out) == len(found.tables)
    with_axes = next(t for t in found.tables if t.x is not None)
    entries = {e.key: e for e in layout.entries}
    entry = entries[f"table_{with_axes.address + base:X}"]
    assert (entry.address, entry.storage) == (with_axes.address + base, with_axes.storage)
    assert entry.x.count == with_axes.columns
    alone = [t for t in found.tables if t.x is None]
    assert not alone or entries[f"table_{alone[0].address + base:X}"].x.kind == "fixed"
    with pytest.raises(CalibrationError):
        proposed_layout("", found.byte_order, base, len(image.data), found.tables)


def test_a_place_beyond_the_image_is_no_layout():
    far = FoundTable(90, "u8", 6, 6, None, None, 0.01, False, 0.9)
    assert far.end == 126
    with pytest.raises(CalibrationError, match="outside the memory"):
        proposed_layout("X", "big", 0, 100, [far])
