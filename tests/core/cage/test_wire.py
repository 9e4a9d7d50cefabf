"""What comes out of the cage is what was put in, of the types that are expected, and nobody changes it afterwards."""

import fcntl
import mmap
import os
from collections.abc import Mapping
from dataclasses import dataclass

import numpy as np
import pytest
from numpy.typing import NDArray

from yarvic.core.cage import wire


@dataclass(frozen=True)
class Answer:
    name: str
    share: float
    columns: Mapping[str, NDArray[np.float64]]
    raw: bytes
    more: tuple[int, ...] = ()


@pytest.fixture
def file():
    made = os.memfd_create("answer", os.MFD_CLOEXEC | os.MFD_ALLOW_SEALING)
    yield made
    os.close(made)


def answer(count):
    columns = {"°C, ü": np.arange(count) * 0.5, "none": np.empty((0, 3)), "plane": np.arange(6.0).reshape(2, 3)}
    return Answer("a", 1.0, columns, b"\0\xff", (1, -2))


@pytest.mark.parametrize("count", [0, 1, 1000, wire.MAPPED_FROM // 8 + 1])
def test_an_answer_comes_back_to_the_bit_and_is_our_own(file, count):
    given = answer(count)
    wire.write(file, given)
    found = wire.read(file, Answer)
    assert (found.name, found.share, found.raw, found.more) == (given.name, given.share, given.raw, given.more)
    assert list(found.columns) == list(given.columns)
    for name, values in given.columns.items():
        mine = found.columns[name]
        assert mine.shape == values.shape and mine.dtype == np.float64 and np.array_equal(mine, values)
        assert mine.flags.writeable and mine.flags.aligned
    # What is changed here is changed nowhere else, also where it is used as it lies.
    if count:
        found.columns["°C, ü"][0] = -1.0
        assert wire.read(file, Answer).columns["°C, ü"][0] == 0.0


def test_nobody_changes_what_was_read(file):
    other = os.dup(file)
    wire.write(file, answer(wire.MAPPED_FROM // 8))
    found = wire.read(file, Answer)
    for do in (
        lambda: os.pwrite(other, b"x" * 64, 4096),
        lambda: os.ftruncate(other, 0),
        lambda: os.write(other, b"x"),
    ):
        with pytest.raises(PermissionError):
            do()
    os.close(other)
    assert np.array_equal(found.columns["°C, ü"], answer(wire.MAPPED_FROM // 8).columns["°C, ü"])


def test_what_could_still_be_written_is_no_answer(file):
    wire.write(file, answer(1))
    with mmap.mmap(file, 0), pytest.raises(wire.NoAnswer, match="still being written"):
        wire.read(file, Answer)
    fcntl.fcntl(file, fcntl.F_ADD_SEALS, fcntl.F_SEAL_SEAL)
    with pytest.raises(wire.NoAnswer, match="still being written"):
        wire.read(file, Answer)


@pytest.mark.parametrize("gone", [1, 8, 1 << 20])
def test_an_answer_that_was_cut_is_none(file, gone):
    wire.write(file, answer(wire.MAPPED_FROM // 8))
    os.ftruncate(file, os.fstat(file).st_size - gone)
    with pytest.raises(wire.NoAnswer, match="not whole"):
        wire.read(file, Answer)


@pytest.mark.parametrize(
    ("head", "why"),
    [
        (b'["a",1,[["x",[-1]]],"",[]]', "no shape"),
        (b'["a",1,[["x",[1,1,1,1]]],"",[]]', "no shape"),
        (b'["a",1,[["x",[true]]],"",[]]', "no shape"),
        (b'["a",1,[["x",[4611686018427387904]]],"",[]]', "not whole"),
        (b'["a",1,[["x",[1]]],"",[]]', "not whole"),
        (b'["a",1,[],"0",[]]', "bytes"),
        (b'[1,1,[],"",[]]', "another type"),
        (b'["a",1,[],""]', "missing"),
        (b'{"a":1}', "list is missing"),
        (b"[" * 100_000, "no document"),
    ],
)
def test_what_is_not_expected_is_no_answer(file, head, why):
    os.write(file, len(head).to_bytes(8, "little") + head)
    with pytest.raises(wire.NoAnswer, match=why):
        wire.read(file, Answer)
