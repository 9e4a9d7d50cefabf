"""A description alone, with what a layout adds to it, and with an image under it."""

import shutil

import pytest

from yarvic.core.errors import CalibrationError, FormatError, YarvicError
from yarvic.core.formats.arrived import kind_of_file
from yarvic.core.formats.descriptions import read_description, read_taken
from yarvic.core.formats.images import write_image
from yarvic.demo import foreign, outside


@pytest.fixture
def folder(tmp_path):
    for name in outside.OF_THE_UNIT:
        (tmp_path / name).write_bytes(outside.shipped(name))
    return tmp_path


def test_each_file_is_known_by_its_content(folder):
    kinds = {name: kind_of_file(folder / name) for name in outside.OF_THE_UNIT}
    assert kinds == {outside.DESCRIPTION: "description", outside.COMPANION: "layout", outside.IMAGE: "image"}
    (folder / "a.s19").write_text("S00600004844521B\n")
    (folder / "a.bin").write_bytes(b"\0" * 100)
    (folder / "a.txt").write_text("time;speed\n0;1\n")
    assert [kind_of_file(folder / n) for n in ("a.s19", "a.bin", "a.txt")] == ["image", "image", "log"]


def test_a_layout_adds_what_a_description_does_not_say(folder):
    bare, _ = read_description(folder / outside.DESCRIPTION)
    both, faults = read_description(folder / outside.COMPANION)
    assert faults == [] and bare.checksums == () and both.checksums[0].kind == "crc-16/ibm-3740"
    assert both.volatile and both.entries == bare.entries and both.origin.name == outside.DESCRIPTION
    text = (folder / outside.COMPANION).read_text()
    (folder / "more.toml").write_text(
        text
        + '\n[[entries]]\nkey = "Extra"\nkind = "value"\naddress = 0x80042F00\n\n[roles.rev_limit]\nentries = ["nMax"]\n'
    )
    more, faults = read_description(folder / "more.toml")
    assert faults == [] and "Extra" in more.by_key and more.of_role("rev_limit") == ("nMax",)


@pytest.mark.parametrize(
    ("old", "new", "message"),
    [
        ("whinchat.a2l", "../whinchat.a2l", "beside the layout"),
        ("whinchat.a2l", "nowhere.a2l", "is not there"),
        ("address = 0x80045FFE", "address = 0x80045FF0", "own range"),
        ("volatile", "volatil", "volatil"),
    ],
)
def test_additions_that_cannot_be(folder, old, new, message):
    path = folder / outside.COMPANION
    path.write_text(path.read_text().replace(old, new))
    with pytest.raises(YarvicError, match=message):
        read_description(path)


def test_a_role_of_nothing_and_an_entry_on_the_checksum(folder):
    path, text = folder / outside.COMPANION, (folder / outside.COMPANION).read_text()
    path.write_text(text + '\n[roles.rev_limit]\nentries = ["nMix"]\n')
    with pytest.raises(CalibrationError, match="no table or value 'nMix'"):
        read_description(path)
    path.write_text(text + '\n[[entries]]\nkey = "Bad"\nkind = "value"\naddress = 0x80045FFE\n')
    layout, faults = read_description(path)
    assert "it lies on the checksum calibration checksum" in faults[0].what and "Bad" not in layout.by_key


def test_raw_bytes_need_their_address(folder):
    taken = read_taken(folder / outside.COMPANION, folder / outside.IMAGE)
    raw = folder / "raw.bin"
    raw.write_bytes(taken.data)
    with pytest.raises(
        FormatError, match="do not say where they begin, and the description's addresses begin at 0x8004202E"
    ):
        read_taken(folder / outside.COMPANION, raw)
    found = read_taken(folder / outside.COMPANION, raw, 0x80040000)
    assert found.faults == () and found.layout.base == 0x80040000 and found.layout.gaps == ()
    # The description names one range of that length.
    spec = foreign.unit()
    raw.write_bytes(taken.data[spec["calibration"] - spec["start"] :])
    alone = read_taken(folder / outside.DESCRIPTION, raw)
    assert alone.layout.base == spec["calibration"] and any("EPK" in f.what for f in alone.faults)


def test_an_image_of_another_place_is_none_of_this_memory(folder):
    write_image(folder / "far.hex", b"\0" * 64, "hex", 0x1000)
    with pytest.raises(CalibrationError, match="none of the 21 entries lies in the image"):
        read_taken(folder / outside.DESCRIPTION, folder / "far.hex")


def test_a_checksum_that_does_not_hold_is_named(folder):
    taken = read_taken(folder / outside.COMPANION, folder / outside.IMAGE)
    data = bytearray(taken.data)
    data[0x2100] ^= 1
    write_image(folder / "bad.hex", bytes(data), "hex", taken.layout.base, taken.layout.gaps)
    found = read_taken(folder / outside.COMPANION, folder / "bad.hex")
    assert [f.about for f in found.faults] == ["calibration checksum"] and "it must be" in found.faults[0].what


@pytest.mark.parametrize("name", ["hex", "log", "big"])
def test_what_is_no_description(folder, name):
    path = folder / "x"
    if name == "hex":
        shutil.copy(folder / outside.IMAGE, path)
    else:
        path.write_bytes(b"time;speed\n0;1\n" * (2_000_000 if name == "big" else 1))
    with pytest.raises(YarvicError) as caught:
        read_description(path)
    assert caught.value.remedy


@pytest.mark.parametrize("text", ["", "just words\n", "\0\1\2\3"])
def test_what_bears_the_ending_of_a_description_is_refused_as_one(tmp_path, text):
    path = tmp_path / "unit.a2l"
    path.write_text(text)
    with pytest.raises(FormatError, match="no description file"):
        read_description(path)
