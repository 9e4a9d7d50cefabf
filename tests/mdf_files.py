"""A small writer of MDF 4.10 with its description before its records, as loggers write it (ASAM MDF 4, from memory)."""

import struct
from itertools import pairwise

import numpy as np

BEGAN_NS = 1_700_000_000_000_000_000
COMMENT = (
    "<FHcomment><TX>written</TX><tool_id>t</tool_id><tool_vendor>v</tool_vendor>"
    "<tool_version>1</tool_version></FHcomment>"
)


class _File:
    def __init__(self):
        self.blocks, self.at = [], 64

    def add(self, kind, links, data):
        pad = -(24 + 8 * links + len(data)) % 8
        self.blocks.append([self.at, kind, [0] * links, data, pad])
        self.at += 24 + 8 * links + len(data) + pad
        return len(self.blocks) - 1

    def text(self, words, kind=b"##TX"):
        raw = words.encode() + b"\0"
        return self.add(kind, 0, raw + b"\0" * (-len(raw) % 8))

    def link(self, block, number, to):
        self.blocks[block][2][number] = self.blocks[to][0]

    def chain(self, blocks):
        for one, then in pairwise(blocks):
            self.link(one, 0, then)

    def bytes(self):
        out = (b"MDF     4.10    tests   " + struct.pack("<HHHH", 0, 0, 410, 0)).ljust(64, b"\0")
        for place, kind, links, data, pad in self.blocks:
            assert len(out) == place
            length = 24 + 8 * len(links) + len(data)
            out += kind + bytes(4) + struct.pack(f"<QQ{len(links)}Q", length, len(links), *links) + data + bytes(pad)
        return out


def mdf_bytes(*groups):
    """An MDF file; each group is (channels as {name: (unit, values)}, stamps, master's unit, what it stamps by)."""
    file = _File()
    header = file.add(b"##HD", 6, struct.pack("<QhhBBBBdd", BEGAN_NS, 0, 0, 0, 0, 0, 0, 0.0, 0.0))
    history = file.add(b"##FH", 2, struct.pack("<QhhB3x", BEGAN_NS, 0, 0, 0))
    file.link(history, 1, file.text(COMMENT, b"##MD"))
    file.link(header, 1, history)
    made = []
    for channels, stamps, unit, sync in groups:
        group = file.add(b"##DG", 4, struct.pack("<B7x", 0))
        size = 8 * (len(channels) + 1)
        inner = file.add(b"##CG", 6, struct.pack("<QQHHIII", 0, len(stamps), 0, 0, 0, size, 0))
        rows = [("t", unit, 2, sync), *((name, u, 0, 0) for name, (u, _) in channels.items())]
        listed = []
        for k, (name, own, kind, by) in enumerate(rows):
            data = struct.pack("<BBBBIIIIBBH6d", kind, by, 4, 0, 8 * k, 64, 0, 0, 0, 0, 0, *[0.0] * 6)
            channel = file.add(b"##CN", 8, data)
            file.link(channel, 2, file.text(name))
            file.link(channel, 6, file.text(own))
            listed.append(channel)
        file.chain(listed)
        file.link(inner, 1, listed[0])
        file.link(group, 1, inner)
        made.append((group, np.column_stack([stamps, *(v for _, v in channels.values())]).astype("<f8").tobytes()))
    file.chain([group for group, _ in made])
    file.link(header, 0, made[0][0])
    for group, rows in made:
        file.link(group, 2, file.add(b"##DT", 0, rows))
    return file.bytes()
