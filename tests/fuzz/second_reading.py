"""What a file holds, read a second time by means of our own: what a reader accepts must be what stands there.

Plain records of MDF 4 by its blocks (from memory of ASAM MDF 4).
"""

import struct
import zlib

import numpy as np

from yarvic.core.formats.logs.read import read_recordings

_HEAD = struct.Struct("<4s4xQQ")
_CHANNEL = struct.Struct("<BBBBIIII")
_LINKS_AT_MOST = 10_000
_FLOATS, _IDENTITY, _LINEAR = {4: "<", 5: ">"}, 0, 1


def disagreement(path):
    """What a reader took from a file and does not stand there; empty when all of it does, or nothing can be said."""
    data = path.read_bytes()
    if not data.startswith(b"MDF"):
        return ""
    found = [raw for raw in read_recordings.read(path).value if raw.reader == "mdf" and not raw.notes]
    standing = plain_channels(data) if found else {}
    for raw in found:
        for column in raw.columns:
            there = standing.get((column.place, column.name))
            if there and not column.states and not any(_same(column.values, each) for each in there):
                return f"{column.name} of {column.place} reads {column.values[:4]}, and {there[0][:4]} stands there"
    return ""


def _same(read, standing):
    """Whether numbers are those that stand there; one that is missing is no other number."""
    if read.shape != standing.shape:
        return False
    known = np.isfinite(read)
    return np.array_equal(read[known], standing[known])


def _block(data, place):
    kind, length, links = _HEAD.unpack_from(data, place)
    return kind, struct.unpack_from(f"<{links}Q", data, place + 24), data[place + 24 + 8 * links : place + length]


def _chain(data, place):
    for _ in range(_LINKS_AT_MOST):
        if not place:
            return
        block = _block(data, place)
        yield block
        place = block[1][0]


def _records(data, place):
    """The bytes of all records, packed or not, in one piece or in a list."""
    kind, links, body = _block(data, place)
    if kind == b"##HL":
        return _records(data, links[0])
    if kind == b"##DL":
        (parts,) = struct.unpack_from("<4xI", body)
        here = b"".join(_records(data, part) for part in links[1 : 1 + parts])
        return here + (_records(data, links[0]) if links[0] else b"")
    if kind != b"##DZ":
        return body
    _, how, columns, size, packed = struct.unpack_from("<2sBxIQQ", body)
    whole = zlib.decompress(body[24 : 24 + packed])
    if how == 1:  # written by columns of the records
        rows = size // columns
        turned = np.frombuffer(whole[: rows * columns], "u1").reshape(columns, rows).T.tobytes()
        whole = turned + whole[rows * columns :]
    return whole


def plain_channels(data):
    """The numbers of each channel of plain bytes with no conversion or a linear one, by its group and name."""
    found, number = {}, 0
    for _, links, _ in _chain(data, _block(data, 64)[1][0]):
        number += 1
        groups = list(_chain(data, links[1]))
        if len(groups) != 1 or not links[2]:
            continue
        _, inner, body = groups[0]
        count, flags, _, size, validity = struct.unpack_from("<8xQHH4xII", body)
        if flags & 1:
            continue
        width = size + validity
        rows = np.frombuffer(_records(data, links[2])[: count * width], "u1").reshape(-1, width)
        for _, to, fields in _chain(data, inner[1]):
            values = _values(data, rows, to, fields)
            if values is not None:
                name = _block(data, to[2])[2].partition(b"\0")[0].decode("utf-8", "replace")
                found.setdefault((f"group {number}", name), []).append(values)
    return found


def _values(data, rows, links, fields):
    """Numbers of a channel; None for one of another kind, or whose numbers need more than a factor and an offset."""
    kind, _, form, first_bit, first, bits, _, _ = _CHANNEL.unpack_from(fields)
    if kind or links[1] or first_bit or form not in _FLOATS or bits not in (32, 64):
        return None
    own = np.ascontiguousarray(rows[:, first : first + bits // 8]).view(f"{_FLOATS[form]}f{bits // 8}")
    values = own.ravel().astype("f8")
    if not links[4]:
        return values
    _, _, conversion = _block(data, links[4])
    if conversion[0] == _IDENTITY:
        return values
    if conversion[0] != _LINEAR:
        return None
    offset, factor = struct.unpack_from("<2d", conversion, 24)
    return values * factor + offset
