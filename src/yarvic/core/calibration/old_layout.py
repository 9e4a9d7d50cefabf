"""Layouts of the first form, as older jobs keep them: their tables, and the header that all their images bear.

Header, 64 bytes at address 0: `YRVC`, header version u16, layout version u16, family (16 bytes, NUL padded),
memory size u32, CRC-32 of everything behind the header u32, name of the revision (32 bytes UTF-8, NUL padded).
All numbers in the layout's byte order. CRC-32 is that of ISO 3309.
"""

from __future__ import annotations

from collections.abc import Mapping
from types import MappingProxyType
from typing import Any

from yarvic.core.errors import CalibrationError

HEADER_SIZE = 64
# What measures an axis, by the title that those layouts give it.
_INPUTS: Mapping[str, str] = MappingProxyType(
    {
        "Engine speed": "engine_speed",
        "Cylinder filling": "filling",
        "Manifold pressure": "boost_pressure",
        "Throttle": "throttle",
        "Boost target": "boost_target",
        "Pedal": "throttle",
        "Quantity": "injected_quantity",
        "Torque": "torque_estimate",
    }
)
# Tables whose key is the name of what they do.
_ROLES = {"cylinder_filling": "filling", "knock_retard_most": "knock_limit"}
_ROLES |= {key: key for key in ("spark_advance", "boost_target", "lambda_target", "torque_limit", "rev_limit")}


def brought_up(data: Mapping[str, Any], source: str) -> dict[str, Any]:
    """What a layout of the first form says, in the present one. Raises CalibrationError for what it cannot be."""
    try:
        order, size = data["byte_order"], data["size"]
        family, version = data["family"], data["version"]
        if not (isinstance(family, str) and 1 <= len(family) <= 16 and family.isascii() and family.isprintable()):
            raise CalibrationError("family has 1 to 16 characters", concerns=source, remedy="Correct it.")
        if not all(isinstance(n, int) and 0 <= n < 1 << 32 for n in (version, size)) or version > 0xFFFF:
            raise CalibrationError("version or size cannot be", concerns=source, remedy="Correct it.")
        if size % data["block"] or size <= HEADER_SIZE:
            raise CalibrationError(
                "the memory is not a whole number of blocks", concerns=source, remedy="Correct it."
            )
        if data["slot_start"] < HEADER_SIZE or not data["slots"]:
            raise CalibrationError(
                "slots must exist and lie behind the header", concerns=source, remedy="Correct them."
            )
        known = {"family", "version", "byte_order", "size", "block", "slots", "slot_start", "slot_size"}
        unknown = data.keys() - known - {"tables", "scalars"}
        if unknown:
            raise CalibrationError(
                f"{sorted(unknown)[0]} is no entry of a layout", concerns=source, remedy="Correct its name."
            )
        tables, values = list(data["tables"]), list(data["scalars"])
        keys = [str(e.get("key")) for e in (*tables, *values)]
        return {
            "format": "yarvic layout 2",
            "family": family,
            "version": str(version),
            "byte_order": order,
            "size": size,
            **{k: data[k] for k in ("block", "slots", "slot_start", "slot_size")},
            **_header(family, version, size, "big" if order == "big" else "little"),
            "entries": [_table(t) for t in tables] + [{**v, "kind": "value"} for v in values],
            "roles": {_ROLES[k]: {"entries": [k], "by": "the layout"} for k in keys if k in _ROLES},
        }
    except (KeyError, TypeError, AttributeError, ZeroDivisionError) as error:
        what = f"{error.args[0]} is missing" if isinstance(error, KeyError) else "is no layout"
        raise CalibrationError(str(what), concerns=source, remedy="Complete it.") from None


def _table(table: Mapping[str, Any]) -> dict[str, Any]:
    return {**table, "kind": "map", "x": _axis(table["x"]), "y": _axis(table["y"])}


def _axis(axis: Mapping[str, Any]) -> dict[str, Any]:
    known = _INPUTS.get(str(axis.get("title")), "")
    return {**axis, "input": known, "input_said": True} if known else dict(axis)


def _header(family: str, version: int, size: int, order: Any) -> dict[str, Any]:
    """The marks, the checksum and the place of the name that the header is."""

    def number(value: int, length: int) -> str:
        return value.to_bytes(length, order).hex(" ")

    return {
        "identification": [
            {"address": 0, "text": "YRVC", "what": "the image mark"},
            {"address": 4, "hex": number(1, 2), "what": "the version of the image header"},
            {"address": 8, "hex": family.encode("ascii").ljust(16, b"\0").hex(" "), "what": "family"},
            {"address": 6, "hex": number(version, 2), "what": "the layout version"},
            {"address": 24, "hex": number(size, 4), "what": "the size of the memory"},
        ],
        "checksums": [{"kind": "crc-32", "ranges": [[HEADER_SIZE, size]], "address": 28}],
        "revision_name": {"address": 32, "length": 32},
    }
