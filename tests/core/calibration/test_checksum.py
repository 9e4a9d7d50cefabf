"""Checksums: against published check values, and that a corrected one holds."""

import binascii
import zlib

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from pydantic import ValidationError

from yarvic.core.calibration.checksum import KINDS, Checksum
from yarvic.core.calibration.image import check_sums, sealed
from yarvic.core.calibration.layout import Layout
from yarvic.core.errors import CalibrationError

# The checksum of the nine letters 123456789, which the public catalogue of parametrised CRC algorithms gives as the
# check value of each. Written down from memory; two of them are confirmed below by Python's own library.
CHECK = {
    "crc-32": 0xCBF43926, "crc-32/bzip2": 0xFC891918, "crc-32/mpeg-2": 0x0376E6E7, "crc-32/jamcrc": 0x340BC6D9,
    "crc-32/iscsi": 0xE3069283, "crc-32/cksum": 0x765E7680, "crc-16/arc": 0xBB3D, "crc-16/modbus": 0x4B37,
    "crc-16/usb": 0xB4C8, "crc-16/umts": 0xFEE8, "crc-16/ibm-3740": 0x29B1, "crc-16/xmodem": 0x31C3,
    "crc-16/kermit": 0x2189, "crc-16/ibm-sdlc": 0x906E, "crc-16/genibus": 0xD64E, "crc-16/mcrf4xx": 0x6F91,
    "crc-16/spi-fujitsu": 0xE5CC,
}  # fmt: skip


@pytest.mark.parametrize("kind", sorted(CHECK))
def test_crcs_give_the_published_check_values(kind):
    checksum = Checksum(kind=kind, ranges=((100, 109),), address=200)
    assert checksum.computed(b"123456789", 100, "big") == CHECK[kind]


def test_every_crc_has_its_check_value():
    assert {k for k in KINDS if k.startswith("crc")} == set(CHECK)


@given(st.binary(min_size=1, max_size=300))
def test_two_crcs_agree_with_pythons_own(data):
    # Reference: zlib.crc32, and binascii.crc_hqx, which is the CRC of 0x1021 without reflection.
    def of(kind):
        return Checksum(kind=kind, ranges=((0, len(data)),), address=len(data)).computed(data, 0, "big")

    assert of("crc-32") == zlib.crc32(data)
    assert of("crc-16/xmodem") == binascii.crc_hqx(data, 0)
    assert of("crc-16/ibm-3740") == binascii.crc_hqx(data, 0xFFFF)


@pytest.mark.parametrize(
    ("kind", "more", "expected"),
    [
        # By hand: 1 + 2 + 3 + 0xFF = 0x105, and so on.
        ("sum-8", {}, 0x05),
        ("sum-16", {"of": 8}, 0x105),
        ("sum-32", {"of": 8}, 0x105),
        ("sum-16", {}, 0x0102 + 0x03FF),
        ("sum-32", {"of": 16}, 0x0102 + 0x03FF),
        ("sum-32", {}, 0x010203FF),
        ("sum-16", {"byte_order": "little"}, (0x0201 + 0xFF03) & 0xFFFF),
        ("xor-8", {}, 1 ^ 2 ^ 3 ^ 0xFF),
        ("xor-16", {}, 0x0102 ^ 0x03FF),
        ("sum-8", {"complement": "ones"}, 0xFA),
        ("sum-8", {"complement": "twos"}, 0xFB),
        ("xor-32", {"complement": "ones"}, 0xFEFDFC00),
    ],
)
def test_sums_by_hand(kind, more, expected):
    checksum = Checksum(kind=kind, ranges=((0, 4),), address=8, **more)
    assert checksum.computed(bytes([1, 2, 3, 0xFF]), 0, "big") == expected


def layout_with(*checksums):
    return Layout(family="f", byte_order="little", base=0x1000, size=256, checksums=checksums)


@given(
    st.sampled_from([k for k in KINDS if k != "unknown"]),
    st.sampled_from(["none", "ones", "twos"]),
    st.sampled_from(["", "big", "little"]),
    st.binary(min_size=256, max_size=256),
    st.integers(0, 50),
)
@settings(max_examples=150, deadline=None)
def test_a_corrected_checksum_holds_and_nothing_else_moves(kind, complement, order, data, flip):
    checksum = Checksum(
        kind=kind,
        ranges=((0x1000, 0x1040), (0x1080, 0x10F0)),
        address=0x1050,
        complement=complement,
        byte_order=order,
    )
    layout = layout_with(checksum)
    good = sealed(data, layout)
    check_sums(good, layout, "x")
    start, end = (a - 0x1000 for a in checksum.place)
    assert good[:start] + good[end:] == data[:start] + data[end:]
    bad = bytearray(good)
    bad[flip] ^= 1
    with pytest.raises(CalibrationError, match="or the layout states another rule"):
        check_sums(bytes(bad), layout, "x")


def test_a_checksum_over_another_is_corrected_after_it():
    inner = Checksum(kind="sum-16", ranges=((0x1000, 0x1010),), address=0x1010)
    outer = Checksum(kind="crc-32", ranges=((0x1000, 0x1080),), address=0x1080)
    layout = layout_with(outer, inner)
    check_sums(sealed(bytes(range(256)), layout), layout, "x")


def test_checksums_that_lie_in_each_other_are_said():
    one = Checksum(kind="crc-32", ranges=((0x1000, 0x1010), (0x1020, 0x1024)), address=0x1010)
    other = Checksum(kind="crc-32", ranges=((0x1000, 0x1014),), address=0x1020)
    with pytest.raises(CalibrationError, match="each other's ranges"):
        sealed(bytes(256), layout_with(one, other))


def test_an_unknown_checksum_is_passed_over_and_named():
    unknown = Checksum(kind="unknown", title="boot check", address=0x1004)
    assert not unknown.known and unknown.place is None and unknown.named == "boot check"
    assert sealed(bytes(256), layout_with(unknown)) == bytes(256)


@pytest.mark.parametrize(
    ("values", "message"),
    [
        ({"kind": "crc-32"}, "needs its ranges"),
        ({"kind": "crc-32", "ranges": ((0, 8),)}, "needs its ranges and its address"),
        ({"kind": "crc-32", "ranges": ((0, 8),), "address": 6}, "lies in its own range"),
        ({"kind": "sum-16", "ranges": ((0, 7),), "address": 8}, "whole number of words"),
        ({"kind": "sum-8", "of": 16, "ranges": ((0, 8),), "address": 8}, "cannot be of words"),
        ({"kind": "crc-32", "of": 8, "ranges": ((0, 8),), "address": 8}, "only sums"),
        ({"kind": "crc-32", "ranges": ((8, 8),), "address": 20}, "end behind its start"),
        ({"kind": "crc-24", "ranges": ((0, 8),), "address": 8}, "crc-24|Input should be"),
    ],
)
def test_checksums_that_cannot_be(values, message):
    with pytest.raises(ValidationError, match=message):
        Checksum(**values)
