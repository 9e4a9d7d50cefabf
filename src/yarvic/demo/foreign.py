"""Writes the memory and the description file of a unit that nobody here has seen: Whinchat's, from what the bench runs.

The bytes are laid by hand, not by what reads them: the one is a check of the other.
"""

from __future__ import annotations

import random
import struct
import tomllib
from collections.abc import Mapping
from importlib.resources import files
from typing import Any

import numpy as np

from yarvic.core.calibration.calibration import Calibration
from yarvic.core.calibration.table import Axis
from yarvic.core.formats.images import hex_to_image, to_text
from yarvic.core.physics import FloatArray
from yarvic.core.units import convert, parse_unit

_PACK = {"UBYTE": "B", "SBYTE": "b", "UWORD": "H", "SWORD": "h"}
_FREE = 0xFF
# The standard's word for the whole.
_WHOLE = "PROJECT"


def unit() -> dict[str, Any]:
    """What the unit's memory is like, as data/whinchat/unit.toml states it."""
    text = files("yarvic.demo").joinpath("data/whinchat/unit.toml").read_text("utf-8")
    return tomllib.loads(text)


class _Writer:
    """Lays numbers one behind the other, and writes down where."""

    def __init__(self, spec: Mapping[str, Any]) -> None:
        self.spec = spec
        self.start: int = spec["start"]
        self.memory = bytearray([_FREE]) * (spec["end"] - self.start)
        self.at: int = spec["calibration"]
        self.blocks: list[str] = []
        self.records: dict[str, str] = {}

    def put(self, storage: str, values: FloatArray, method: str) -> int:
        """Numbers in a type by a method; gives their address."""
        m = self.spec["methods"][method]
        raw = np.round((np.asarray(values, dtype=np.float64).ravel() - m.get("offset", 0.0)) / m["factor"]).astype(
            int
        )
        return self.put_raw(storage, raw.tolist())

    def put_raw(self, storage: str, raw: list[int]) -> int:
        """Raw numbers, little endian, at an even address; gives it."""
        self.at += self.at % 2
        address, data = self.at, struct.pack(f"<{len(raw)}{_PACK[storage]}", *raw)
        self.memory[address - self.start : address - self.start + len(data)] = data
        self.at += len(data)
        return address

    def record(self, name: str, text: str) -> str:
        """A RECORD_LAYOUT by name, written once."""
        self.records[name] = f"/begin RECORD_LAYOUT {name} {text} /end RECORD_LAYOUT"
        return name


def _in_method(values: FloatArray, unit_: str, method: Mapping[str, Any]) -> FloatArray:
    """Numbers of a bench table in the unit of a method."""
    words = str(method["unit"])
    if words in ("-", "°CA/s"):
        return values
    return np.asarray(convert(values, unit_, parse_unit(words).label), dtype=np.float64)


def written(maps: Calibration) -> tuple[bytes, str]:
    """The unit's memory with these maps, and its description file."""
    spec = unit()
    w = _Writer(spec)
    _code(w)
    axes = {a["name"]: _shared_axis(w, a, maps) for a in spec["axes"]}
    for m in spec["maps"]:
        _map(w, m, maps, axes)
    for v in spec["values"]:
        scalar = maps.scalar(v["from"])
        value = _in_method(np.array([scalar.value]), scalar.unit, spec["methods"][v["method"]])
        record = w.record(f"RL_{v['storage']}", f"FNC_VALUES 1 {v['storage']} ROW_DIR DIRECT")
        _characteristic(w, v, "VALUE", w.put(v["storage"], value, v["method"]), record, "")
    _odd_ones(w)
    return _finished(w), _description(w)


def _code(w: _Writer) -> None:
    """What is no calibration: a program that looks like one, and its identification."""
    noise = random.Random(2004)
    end = w.spec["code_end"] - w.start
    w.memory[:end] = bytes(noise.randrange(256) for _ in range(end))
    mark = w.spec["epk"].encode("ascii")
    at = w.spec["epk_address"] - w.start
    w.memory[at : at + len(mark)] = mark
    for n in range(*w.spec["adapted"]):
        w.memory[n - w.start] = noise.randrange(256)


def _shared_axis(w: _Writer, a: Mapping[str, Any], maps: Calibration) -> tuple[str, str, int]:
    table = maps.table(a["from"])
    axis: Axis = table.y if a.get("axis") == "y" else table.x
    values = _in_method(axis.values, axis.unit, w.spec["methods"][a["method"]])
    record = w.record("RL_AX", "AXIS_PTS_X 1 UWORD INDEX_INCR DIRECT")
    address = w.put("UWORD", values, a["method"])
    w.blocks.append(
        f'/begin AXIS_PTS {a["name"]} "{a["words"]}" 0x{address:X} {a["input"]} {record} 0 {a["method"]} {axis.values.size}'
        f" 0 16383 /end AXIS_PTS"
    )
    return a["input"], a["method"], axis.values.size


def _map(w: _Writer, m: Mapping[str, Any], maps: Calibration, axes: Mapping[str, tuple[str, str, int]]) -> None:
    table = maps.table(m["from"])
    methods = w.spec["methods"]
    values = _in_method(table.values, table.unit, methods[m["method"]])
    order = "COLUMN_DIR" if m.get("columns") else "ROW_DIR"
    laid = values.T if m.get("columns") else values
    if "own" not in m:
        address = w.put(m["storage"], laid, m["method"])
        record = w.record(f"RL_{m['storage']}_{order}", f"FNC_VALUES 1 {m['storage']} {order} DIRECT")
        described = "".join(_com(m[k], *axes[m[k]]) for k in ("x", "y") if k in m)
        if "steps" in m:
            described += (
                f"\n    /begin AXIS_DESCR FIX_AXIS NO_INPUT_QUANTITY NO_COMPU_METHOD {m['steps']} 0 {m['steps']}"
                f" FIX_AXIS_PAR_DIST 1 1 {m['steps']} /end AXIS_DESCR"
            )
    else:
        inputs = {x["name"]: x["method"] for x in w.spec["measurements"]}
        record = w.record(
            f"RL_MAP_{order}",
            "NO_AXIS_PTS_X 1 UWORD NO_AXIS_PTS_Y 2 UWORD AXIS_PTS_X 3 UWORD INDEX_INCR DIRECT"
            f" AXIS_PTS_Y 4 UWORD INDEX_INCR DIRECT FNC_VALUES 5 UWORD {order} DIRECT",
        )
        address = w.put_raw("UWORD", [table.x.values.size, table.y.values.size])
        described = ""
        for name, axis in zip(m["own"], (table.x, table.y), strict=True):
            method = inputs[name]
            w.put("UWORD", _in_method(axis.values, axis.unit, methods[method]), method)
            described += (
                f"\n    /begin AXIS_DESCR STD_AXIS {name} {method} {axis.values.size} 0 16383 /end AXIS_DESCR"
            )
        w.put(m["storage"], laid, m["method"])
    _characteristic(w, m, "MAP", address, record, described)


def _com(name: str, source: str, method: str, count: int) -> str:
    return f"\n    /begin AXIS_DESCR COM_AXIS {source} {method} {count} 0 16383 AXIS_PTS_REF {name} /end AXIS_DESCR"


def _characteristic(w: _Writer, c: Mapping[str, Any], kind: str, address: int, record: str, more: str) -> None:
    digits = w.spec["methods"][c["method"]]["digits"]
    w.blocks.append(
        f'/begin CHARACTERISTIC {c["name"]} "{c["words"]}" {kind} 0x{address:X} {record} 0 {c["method"]}'
        f' {c["low"]} {c["high"]} FORMAT "%8.{digits}"{more}\n  /end CHARACTERISTIC'
    )


def _odd_ones(w: _Writer) -> None:
    """What else such a description holds: switches in a byte, words, a text, a block, slices, and what lies nowhere."""
    u8 = w.record("RL_UBYTE", "FNC_VALUES 1 UBYTE ROW_DIR DIRECT")
    flags = w.put_raw("UBYTE", [0b0000_0101])
    none = "NO_COMPU_METHOD"
    for name, words, mask in (("Sw_Shutter", "Cooling shutters fitted", 1), ("Sw_Siren", "Siren lowers idle", 4)):
        w.blocks.append(
            f'/begin CHARACTERISTIC {name} "{words}" VALUE 0x{flags:X} {u8} 0 OnOff 0 1 BIT_MASK 0x{mask:X}'
            " /end CHARACTERISTIC"
        )
    kind = w.put_raw("UBYTE", [1])
    w.blocks.append(
        f'/begin CHARACTERISTIC Fuel_Kind "Fuel that the map is for" VALUE 0x{kind:X} {u8} 0 Fuel 0 2 /end CHARACTERISTIC'
    )
    text = w.put_raw("UBYTE", [*b"PATROL 4\0\0\0\0"])
    w.blocks.append(
        f'/begin CHARACTERISTIC Veh_Name "Vehicle" ASCII 0x{text:X} {u8} 0 {none} 0 255 NUMBER 12 /end CHARACTERISTIC'
    )
    block = w.put_raw("UBYTE", [4, 5, 7, 9])
    w.blocks.append(
        f'/begin CHARACTERISTIC Fan_Stage "Fan, share by stage" VAL_BLK 0x{block:X} {u8} 0 {none} 0 20 NUMBER 4'
        " /end CHARACTERISTIC"
    )
    slices = w.put_raw("UBYTE", [20 + n for n in range(12)])
    axis = "/begin AXIS_DESCR FIX_AXIS NO_INPUT_QUANTITY {0} 2 0 2 FIX_AXIS_PAR_DIST 0 1 {1} /end AXIS_DESCR"
    cube = " ".join(axis.format(none, n) for n in (2, 2, 3))
    w.blocks.append(
        f'/begin CHARACTERISTIC Idle_Trim "Idle trim by gear, load and heat" CUBOID 0x{slices:X} {u8} 0 {none} 0 99 {cube}'
        " /end CHARACTERISTIC"
    )
    w.blocks.append(
        f'/begin CHARACTERISTIC Tq_Shown "Torque shown" VALUE 0x0 {u8} 0 tq 0 500 /begin VIRTUAL_CHARACTERISTIC "X1*2" nMax'
        " /end VIRTUAL_CHARACTERISTIC /end CHARACTERISTIC"
    )


def _finished(w: _Writer) -> bytes:
    """The memory under its checksum: CRC-16 with the polynomial 0x1021 from 0xFFFF on, without what the unit adapts."""
    crc = 0xFFFF
    low, high = w.spec["adapted"]
    for address in (*range(w.spec["calibration"], low), *range(high, w.spec["checksum"])):
        crc ^= w.memory[address - w.start] << 8
        for _ in range(8):
            crc = (crc << 1 ^ (0x1021 if crc & 0x8000 else 0)) & 0xFFFF
    at = w.spec["checksum"] - w.start
    w.memory[at : at + 2] = crc.to_bytes(2, "little")
    return bytes(w.memory)


def _description(w: _Writer) -> str:
    s = w.spec
    methods = [
        f'/begin COMPU_METHOD {name} "" LINEAR "%8.{m["digits"]}" "{m["unit"]}" COEFFS_LINEAR {m["factor"]}'
        f" {m.get('offset', 0.0)} /end COMPU_METHOD"
        for name, m in s["methods"].items()
    ]
    words = {"OnOff": ("off", "on"), "Fuel": ("RON 91", "RON 95", "RON 98")}
    for name, each in words.items():
        pairs = " ".join(f'{n} "{t}"' for n, t in enumerate(each))
        methods.append(f'/begin COMPU_METHOD {name} "" TAB_VERB "%1.0" "" COMPU_TAB_REF {name}_T /end COMPU_METHOD')
        methods.append(f'/begin COMPU_VTAB {name}_T "" TAB_VERB {len(each)} {pairs} /end COMPU_VTAB')
    measured = [
        f'/begin MEASUREMENT {m["name"]} "{m["words"]}" UWORD {m["method"]} 1 0 0 {m["high"]} ECU_ADDRESS 0xD000{n * 2:04X}'
        " /end MEASUREMENT"
        for n, m in enumerate(s["measurements"])
    ]
    groups: dict[str, list[str]] = {}
    for each in (*s["maps"], *s["values"]):
        groups.setdefault(each["group"], []).append(each["name"])
    grouped = [
        f'/begin GROUP {name} "" ROOT /begin REF_CHARACTERISTIC {" ".join(listed)} /end REF_CHARACTERISTIC /end GROUP'
        for name, listed in groups.items()
    ]
    size = s["end"] - s["calibration"]
    head = [
        f'/begin MOD_PAR "" VERSION "{s["version"]}" EPK "{s["epk"]}" ADDR_EPK 0x{s["epk_address"]:X}',
        f'  /begin MEMORY_SEGMENT Cal "calibration" DATA FLASH INTERN 0x{s["calibration"]:X} 0x{size:X} -1 -1 -1 -1 -1',
        "  /end MEMORY_SEGMENT",
        "/end MOD_PAR",
        '/begin MOD_COMMON "" BYTE_ORDER MSB_LAST ALIGNMENT_WORD 2 /end MOD_COMMON',
    ]
    body = [*head, *methods, *w.records.values(), *measured, *w.blocks, *grouped]
    inner = "\n".join(f"  {line}" for line in body)
    return (
        "/* Whinchat's control unit: an invented description of an invented memory. */\nASAP2_VERSION 1 61\n"
        f'/begin {_WHOLE} {s["name"]} ""\n'
        f'/begin MODULE {s["module"]} "control unit of the patrol wagon"\n'
        f"{inner}\n/end MODULE\n/end {_WHOLE}\n"
    )


def gaps() -> tuple[tuple[int, int], ...]:
    """The ranges of the memory that its file does not hold."""
    spec = unit()
    return ((spec["code_end"], spec["calibration"]),)


def read_out(exported: bytes, before: bytes) -> bytes:
    """The file that the shop's writer reads back: another form, and what the unit has adapted by then is another."""
    return _as_file(bytearray(_memory_of(exported)))


def half_written(exported: bytes, before: bytes) -> bytes:
    """The same after a write that stopped half-way: from there on lies what lay there `before`."""
    memory = bytearray(_memory_of(exported))
    spec = unit()
    half = spec["calibration"] + 0x300 - spec["start"]
    memory[half:] = before[half:]
    return _as_file(memory)


def _memory_of(exported: bytes) -> bytes:
    spec = unit()
    return hex_to_image(exported.decode("ascii"), spec["end"] - spec["start"], base=spec["start"])


def _as_file(memory: bytearray) -> bytes:
    spec = unit()
    low, high = spec["adapted"]
    for n in range(low - spec["start"], high - spec["start"]):
        memory[n] ^= 0x5A
    return to_text(bytes(memory), "srec", spec["start"], gaps())
