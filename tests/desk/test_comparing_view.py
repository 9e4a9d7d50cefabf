"""Two images compared through the real window: ranges that differ, and what a checksum covers."""

import numpy as np
import pytest
from PyQt6.QtWidgets import QApplication

from yarvic.core.calibration.checksum import Checksum
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.desk.views.comparing import NO_SUM

pytestmark = pytest.mark.window

SUM = Checksum(kind="crc-32", ranges=((0x100, 0x3F00),), address=0x3F00, byte_order="big")


@pytest.fixture
def files(tmp_path):
    """Two images of one family, and one of another length."""
    one = bytearray(np.random.default_rng(1).integers(0, 256, 0x4000).astype(np.uint8).tobytes())
    other = bytearray(one)
    for at in (0x800, 0x1402, 0x2200):
        other[at] ^= 7
    paths = []
    for name, data in (("one.bin", one), ("other.bin", other), ("short.bin", one[:0x2000])):
        if len(data) > 0x3F00:
            SUM.correct(data, 0, "big")
        paths.append(tmp_path / name)
        paths[-1].write_bytes(data)
    return paths


@pytest.fixture
def page(empty):
    """The page before anything was chosen."""
    empty.window.open_comparing()
    empty.idle()
    return empty.window.view("comparing")


def test_the_range_is_told_and_can_be_taken_into_a_layout(page, files, empty):
    assert page.search.isHidden()
    page.compare(*files[:2])
    empty.idle()
    assert page.headline.text() == "7 of 16,384 bytes differ, in 4 ranges."
    assert page.search.isVisible()
    page.search.click()
    empty.idle()
    assert page.sums.text() == (
        "crc-32 at 0x3F00, big endian, covers 0x100 to 0x3EFF: holds in both, confidence 99 %."
    )
    page.copy.click()
    copied = QApplication.clipboard().text()
    layout = parse_layout('format = "yarvic layout 2"\nfamily = "F"\nbyte_order = "big"\nsize = 0x4000\n\n' + copied)
    assert layout.checksums == (SUM,)


def test_what_two_others_were_is_not_shown_beside_new_ones(page, files, empty):
    page.compare(*files[:2])
    empty.idle()
    page.look_for_sums()
    empty.idle()
    assert page.found
    page._entered(1, str(files[2]))
    assert page.found == ()
    assert page.sums.isHidden() and page.copy.isHidden()
    empty.idle()
    assert "are in one of them alone" in page.headline.text() or "bytes" in page.headline.text()
    page._entered(1, "")
    assert page.headline.text() == page.listed.toPlainText() == ""


def test_an_outcome_for_other_files_is_not_shown(page, files, empty):
    page.compare(*files[:2])
    empty.idle()
    page.look_for_sums()
    page._entered(0, str(files[1]))
    empty.idle()
    assert page.found == () and page.sums.isHidden()
    assert "are equal in all" in page.headline.text()
    assert page.search.isHidden()


def test_that_none_was_told_is_said_and_why(page, tmp_path, empty):
    data = bytearray(np.random.default_rng(2).integers(0, 256, 0x2000).astype(np.uint8).tobytes())
    (tmp_path / "a.bin").write_bytes(data)
    data[0x900] ^= 1
    (tmp_path / "b.bin").write_bytes(data)
    page.compare(tmp_path / "a.bin", tmp_path / "b.bin")
    empty.idle()
    page.search.click()
    empty.idle()
    assert page.sums.text() == NO_SUM
    assert page.copy.isHidden()


def test_a_file_that_is_none_is_said(page, files, tmp_path, empty):
    page.compare(files[0], tmp_path / "gone.bin")
    empty.idle()
    assert "gone.bin" in page.fault.text() and page.fault.isVisible()
    assert page.search.isHidden()
