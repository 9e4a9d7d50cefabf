"""What a checksum covers, told by two images: rules against the library for CRCs, ranges against what was put there."""

import numpy as np
import pytest

from yarvic.core.calibration.checksum import Checksum
from yarvic.core.calibration.undescribed.checksum_search import checksums_found
from yarvic.core.calibration.undescribed.crc_algebra import RULES, Linear
from yarvic.core.formats.image_comparison import checksums_of_files
from yarvic.core.formats.images import ImageFile

SIZE = 1 << 15


@pytest.mark.parametrize("kind", RULES)
def test_the_register_is_told_from_what_depends_on_either_end(kind):
    """Against fastcrc, which computes the CRCs of layouts."""
    random = np.random.default_rng(len(kind))
    data = random.integers(0, 256, 40_000).astype(np.uint8).tobytes()
    rule, start, end = RULES[kind], 1234, 39_001
    width = rule.bits // 8
    checksum = Checksum(kind=kind, ranges=((start, end),), address=39_100)
    library = checksum.computed(data, 0, "big")
    linear = Linear(*rule.linear)
    sums = linear.sums(data)
    begun = linear.back.times(start).of(rule.initial)
    register = linear.on.times(end).of(int(sums[end] ^ sums[start]) ^ begun)
    assert register ^ rule.final == library
    assert linear.back.of(linear.on.of(0x12A5 << 8 * (width - 2))) == 0x12A5 << 8 * (width - 2)
    assert linear.moved_back(77, np.array([0, 1, 5])).tolist() == [linear.back.times(n).of(77) for n in (0, 1, 5)]


def pair(seed, *checksums, base=0, edits=25, flat=False):
    """Two images that differ in some numbers, with checksums that hold in both."""
    random = np.random.default_rng(seed)
    bytes_ = np.repeat(random.integers(0, 60, SIZE // 8), 8) if flat else random.integers(0, 256, SIZE)
    one = bytearray(bytes_.astype(np.uint8).tobytes())
    one[0x5800:0x6000] = b"\xff" * 0x800
    other = bytearray(one)
    for _ in range(edits):
        at, more = int(random.integers(0x100, SIZE - 0x100)), int(random.integers(1, 6))
        for n in range(int(random.integers(1, 9))):
            other[at + 2 * n] = (other[at + 2 * n] + more) & 255
    for checksum in checksums:
        for image in (one, other):
            checksum.correct(image, base, "little")
    return bytes(one), bytes(other)


@pytest.mark.parametrize("inside", [False, True])
@pytest.mark.parametrize("kind", ["crc-32", "crc-32/mpeg-2", "crc-32/iscsi", "crc-32/cksum", "sum-32"])
def test_a_wide_checksum_is_told_wherever_its_word_lies(kind, inside):
    base, order = 0x80000, "little" if inside else "big"
    ranges = ((base + 0x402, base + 0x2F30), (base + 0x2F34, base + 0x7600))
    place = base + 0x2F30 if inside else base + 0x7A04
    if kind == "sum-32":
        ranges = ((base + 0x400, ranges[0][1]), ranges[1])
    if not inside:
        ranges = ((ranges[0][0], ranges[1][1]),)
    made = Checksum(kind=kind, ranges=ranges, address=place, byte_order=order)
    found = checksums_found(*pair(len(kind), made, base=base), base)
    assert [f.checksum for f in found] == [made]
    assert found[0].confidence > 0.9


@pytest.mark.parametrize("kind", [*[k for k in RULES if RULES[k].bits == 16][::2], "sum-16", "xor-16"])
def test_a_short_one_is_told_where_its_range_begins_beside_it(kind):
    made = Checksum(kind=kind, ranges=((0x402, 0x5000),), address=0x400, byte_order="big")
    found = checksums_found(*pair(RULES[kind].initial if kind in RULES else 3, made, edits=60))
    assert [f.checksum for f in found] == [made]


@pytest.mark.parametrize(("of", "complement"), [(8, "none"), (16, "ones"), (0, "twos")])
def test_sums_of_other_words_and_complements_are_told(of, complement):
    made = Checksum(
        kind="sum-32", ranges=((0x1000, 0x7F00),), address=0x7F00, byte_order="little", of=of, complement=complement
    )
    found = checksums_found(*pair(of + 4, made, edits=60))
    assert [f.checksum for f in found] == [made]


def test_several_at_once_one_over_the_other():
    inner = Checksum(kind="crc-16/ibm-3740", ranges=((0x100, 0x3000),), address=0x3000, byte_order="little")
    outer = Checksum(kind="crc-32", ranges=((0, 0x7FF8), (0x7FFC, 0x8000)), address=0x7FF8, byte_order="little")
    found = checksums_found(*pair(8, inner, outer))
    assert {f.checksum.kind: f.checksum for f in found} == {inner.kind: inner, outer.kind: outer}
    assert "covers 0x0 to 0x7FF7 and 0x7FFC to 0x7FFF" in found[0].sentence()
    assert 'ranges = [[0x0, 0x7FF8], [0x7FFC, 0x8000]]\nbyte_order = "little"' in found[0].toml()


@pytest.mark.parametrize("flat", [False, True])
@pytest.mark.parametrize("seed", range(2))
def test_where_there_is_none_none_is_told(seed, flat):
    assert checksums_found(*pair(seed, edits=80, flat=flat)) == ()


def test_what_two_images_cannot_tell_is_not_told():
    """Eight bits at no round address say less than it takes to name the range; two equal images say nothing."""
    short = Checksum(kind="sum-8", ranges=((0x1234, 0x3457),), address=0x6003)
    assert checksums_found(*pair(5, short)) == ()
    one, _ = pair(6)
    assert checksums_found(one, one) == ()
    assert checksums_found(b"", b"") == ()
    assert checksums_found(bytes(SIZE), b"\xff" * SIZE) == ()
    assert checksums_found(b"abc", b"abd") == ()
    with pytest.raises(ValueError, match="one length"):
        checksums_found(one, one[:-1])


def test_an_end_within_a_fill_is_said_not_to_be_known():
    """Words of one fill joined in pairs give nought: any even number of them may belong to the range."""
    made = Checksum(kind="xor-32", ranges=((0x400, 0x5900),), address=0x3FC, byte_order="big")
    found = checksums_found(*pair(9, made))
    assert [f.checksum.address for f in found] == [0x3FC]
    assert found[0].others > 0
    assert "fit as well" in found[0].sentence()


def test_it_says_how_far_it_is_and_stops():
    made = Checksum(kind="crc-32", ranges=((0x400, 0x7000),), address=0x7000, byte_order="big")
    images = pair(10, made)
    shares = []
    assert checksums_found(*images, progress=shares.append)
    assert shares == sorted(shares)
    assert shares[-1] == 1.0
    assert checksums_found(*images, cancelled=lambda: True) == ()


def test_files_are_searched_where_both_hold_bytes():
    made = Checksum(kind="crc-32", ranges=((0x8400, 0xF000),), address=0xF000, byte_order="big")
    one, other = pair(11, made, base=0x8000)
    files = [
        ImageFile(name, "Intel HEX", data, 0x8000, (), "")
        for name, data in (("one.hex", one), ("other.hex", other + b"more"))
    ]
    found = checksums_of_files(*files, lambda share: None, lambda: False)
    assert [f.checksum for f in found] == [made]
