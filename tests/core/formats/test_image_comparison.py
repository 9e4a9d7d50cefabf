"""Two images byte by byte, with nothing known of what lies in them."""

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yarvic.core.errors import FormatError
from yarvic.core.formats.image_comparison import compare_images_of_files
from yarvic.core.formats.images import read_image, write_image


def file_of(folder, name, data, form="raw", base=0, gaps=()):
    write_image(folder / name, data, form, base, gaps)
    return read_image(folder / name)


@given(st.binary(min_size=1, max_size=300), st.lists(st.integers(0, 299), max_size=8))
@settings(max_examples=60, deadline=None)
def test_every_byte_that_differs_is_in_a_range(tmp_path_factory, data, places):
    folder = tmp_path_factory.mktemp("c")
    changed = bytearray(data)
    for p in places:
        changed[p % len(data)] ^= 0x55
    found = compare_images_of_files(
        file_of(folder, "a", data, "hex", 0x8000), file_of(folder, "b", bytes(changed), "srec", 0x8000)
    )
    wrong = {0x8000 + n for n, (x, y) in enumerate(zip(data, changed, strict=True)) if x != y}
    assert found.bytes_differ == len(wrong) and found.compared == len(data)
    assert all(any(r.start <= w < r.end for r in found.differs) for w in wrong)
    assert found.equal == (not wrong) and (found.headline().endswith("bytes.") or "differ" in found.headline())


def test_what_one_holds_alone_is_said(tmp_path):
    one = file_of(tmp_path, "a.hex", b"0123456789", "hex", 0x100, ((0x104, 0x106),))
    other = file_of(tmp_path, "b.hex", b"0123456789XY", "hex", 0x100)
    found = compare_images_of_files(one, other)
    assert found.differs == () and not found.equal and found.compared == 8
    assert found.only == (("b.hex", 0x10A, 0x10C), ("b.hex", 0x104, 0x106))
    raw = file_of(tmp_path, "c.bin", b"0123456789XZ")
    found = compare_images_of_files(other, raw)  # raw bytes begin where the other does
    assert [r.sentence() for r in found.differs] == ["0x10B: 59 / 5A"]


def test_images_of_two_memories_share_nothing(tmp_path):
    with pytest.raises(FormatError, match="shares no address"):
        compare_images_of_files(
            file_of(tmp_path, "a", b"ab", "hex", 0x100), file_of(tmp_path, "b", b"ab", "hex", 0x200)
        )
