"""How an answer comes out of the cage: a JSON document and the numbers behind it. Nothing in it is code.

An answer is made of texts, numbers, lists, tables by name, arrays of float64, and data classes. It is taken apart by the
types that are expected of it, so that whoever wrote it cannot make anything else of it.
"""

from __future__ import annotations

import fcntl
import json
import math
import mmap
import os
import types
from collections.abc import Mapping, Sequence
from dataclasses import fields, is_dataclass
from functools import cache
from typing import Any, Literal, Union, get_args, get_origin, get_type_hints

import numpy as np

MOST_HEAD = 64 << 20
# From so many bytes of numbers on they are used where they lie: a mapping keeps a file open as long as one is needed.
MAPPED_FROM = 16 << 20
_LENGTH = 8
_STEP = 1 << 26
_SEALS = fcntl.F_SEAL_SHRINK | fcntl.F_SEAL_GROW | fcntl.F_SEAL_WRITE
_PLAIN = (str, int, float, bool, bytes, type(None))


class NoAnswer(Exception):
    """What came is not what was expected."""


def write(file: int, value: Any) -> None:
    """Write a value into an open file."""
    arrays: list[np.ndarray] = []
    head = json.dumps(_plain(value, arrays), separators=(",", ":")).encode("ascii")
    if len(head) > MOST_HEAD:
        raise NoAnswer("too much text")
    head += b" " * (-len(head) % _LENGTH)  # numbers lie where the processor takes them from at once
    head = len(head).to_bytes(_LENGTH, "little") + head
    for data in (memoryview(head), *(a.data.cast("B") for a in arrays if a.nbytes)):
        while data:
            data = data[os.write(file, data[:_STEP]) :]


def _read_into(file: int, data: memoryview, place: int) -> None:
    while data:
        count = os.preadv(file, [data[:_STEP]], place)
        if not count:
            raise NoAnswer("it is not whole")
        data, place = data[count:], place + count


def _plain(value: Any, arrays: list[np.ndarray]) -> Any:
    if isinstance(value, np.ndarray):
        array = np.ascontiguousarray(value, dtype=np.float64).reshape(value.shape)
        arrays.append(array)
        return list(array.shape)
    if is_dataclass(value):
        return [_plain(getattr(value, f.name), arrays) for f in fields(value)]
    if isinstance(value, Mapping):
        return [[key, _plain(each, arrays)] for key, each in value.items()]
    if isinstance(value, list | tuple):
        return [_plain(each, arrays) for each in value]
    if isinstance(value, bytes):
        return value.hex()
    if isinstance(value, str | int | float | bool | None):
        return value
    raise TypeError(f"{type(value).__name__} has no place in an answer")


def read(file: int, expected: Any) -> Any:
    """The value in an open file, of an expected type; from then on nobody can change the file. Raises NoAnswer."""
    try:
        fcntl.fcntl(file, fcntl.F_ADD_SEALS, _SEALS)
    except OSError:
        raise NoAnswer("it is still being written") from None
    size = os.fstat(file).st_size
    first = os.pread(file, _LENGTH, 0)
    length = int.from_bytes(first, "little")
    if len(first) < _LENGTH or length > min(MOST_HEAD, size - _LENGTH):
        raise NoAnswer("it is not whole")
    try:
        plain = json.loads(_pread(file, length, _LENGTH))
    except (ValueError, RecursionError):
        raise NoAnswer("it is no document") from None
    return _of_type(plain, expected, _Arrays(file, _LENGTH + length, size))


def _pread(file: int, length: int, at: int) -> bytes:
    found = bytearray()
    while len(found) < length:
        more = os.pread(file, length - len(found), at + len(found))
        if not more:
            raise NoAnswer("it is not whole")
        found += more
    return bytes(found)


class _Arrays:
    """The arrays of an answer, one behind the other, as many numbers as there are bytes for."""

    def __init__(self, file: int, at: int, end: int) -> None:
        self.file, self.at, self.end = file, at, end
        self.mapped = mmap.mmap(file, end, access=mmap.ACCESS_COPY) if end - at >= MAPPED_FROM else None

    def make(self, shape: Any) -> np.ndarray:
        """The next array, of its own or as a private view of the file."""
        if not isinstance(shape, list) or len(shape) > 3 or not all(type(n) is int and n >= 0 for n in shape):
            raise NoAnswer("an array has no shape")
        count, at = math.prod(shape), self.at
        if 8 * count > self.end - at:
            raise NoAnswer("an array is not whole")
        self.at += 8 * count
        if self.mapped is not None:
            return np.frombuffer(self.mapped, np.float64, count, at).reshape(shape)
        made = np.empty(shape)
        _read_into(self.file, made.reshape(-1).data.cast("B"), at)
        return made


@cache
def _hints(kind: Any) -> dict[str, Any]:
    return get_type_hints(kind)


def _of_type(plain: Any, kind: Any, arrays: _Arrays) -> Any:
    """The value of a type that a plain one stands for. Raises NoAnswer."""
    origin, inner = get_origin(kind), get_args(kind)
    if kind in _PLAIN:
        return _simple(plain, kind)
    if origin is np.ndarray:
        return arrays.make(plain)
    if origin in (Union, types.UnionType):
        if plain is None and type(None) in inner:
            return None
        return _of_type(plain, next(k for k in inner if k is not type(None)), arrays)
    if origin is Literal:
        if plain not in inner:
            raise NoAnswer("an entry is none of those that can be")
        return plain
    if not isinstance(plain, list):
        raise NoAnswer("a list is missing")
    if isinstance(kind, type) and is_dataclass(kind):
        hints = _hints(kind)
        names = [f.name for f in fields(kind)]
        values = _each(plain, [hints[name] for name in names], arrays)
        return kind(**dict(zip(names, values, strict=True)))
    return _of_many(plain, origin, inner, arrays)


def _of_many(plain: list[Any], origin: Any, inner: tuple[Any, ...], arrays: _Arrays) -> Any:
    if origin is list:
        return _each(plain, inner * len(plain), arrays)
    if origin is tuple and inner[-1] is Ellipsis:
        return tuple(_each(plain, inner[:1] * len(plain), arrays))
    if origin is tuple:
        return tuple(_each(plain, inner, arrays))
    if origin in (dict, Mapping):
        return {k: v for k, v in (_of_many(_pair(each), tuple, inner, arrays) for each in plain)}
    raise TypeError(f"{origin} has no place in an answer")


def _pair(plain: Any) -> list[Any]:
    if not isinstance(plain, list):
        raise NoAnswer("a name or what it stands for is missing")
    return plain


def _each(plain: list[Any], kinds: Sequence[Any], arrays: _Arrays) -> list[Any]:
    if len(plain) != len(kinds):
        raise NoAnswer("an entry is missing, or one too many")
    return [_of_type(each, kind, arrays) for each, kind in zip(plain, kinds, strict=True)]


def _simple(plain: Any, kind: type) -> Any:
    if kind is float and type(plain) is int:
        return float(plain)
    if kind is bytes and isinstance(plain, str):
        try:
            return bytes.fromhex(plain)
        except ValueError:
            raise NoAnswer("bytes are not written as such") from None
    if type(plain) is not kind:
        raise NoAnswer("an entry is of another type")
    return plain
