"""What a layout holds, and an image under it, in words for the command line."""

from __future__ import annotations

from typing import Any

from yarvic.cli_words import tell


def tell_layout(told: dict[str, Any]) -> None:
    """The entries of a layout, what is left out, and what is wrong."""
    version = f", {told['version']}" if told["version"] else ""
    size = f"{told['size']:,} bytes from 0x{told['base']:X}" if told["size"] else "length not stated"
    tell(f"{told['family']}{version}: {told['byte_order']} endian, {size}")
    kinds: dict[str, int] = {}
    for entry in told["entries"]:
        kinds[entry["kind"]] = kinds.get(entry["kind"], 0) + 1
    tell("  " + (", ".join(f"{n:,} {kind}{'s' if n != 1 else ''}" for kind, n in kinds.items()) or "no entries"))
    for entry in told["entries"]:
        shape = " x ".join(str(n) for n in entry.get("shape", ()))
        role = f", {entry['role'].replace('_', ' ')}" if entry.get("role") else ""
        tell(f"  {entry['kind']:7} 0x{entry['address']:06X}  {entry['key']}  {entry['unit']}  {shape}{role}")
    for out in told["left_out"]:
        place = f"line {out['line']:,}, " if out["line"] else ""
        tell(f"  left out {place}{out['key']}: {out['reason']}")
    for fault in told["faults"]:
        tell(f"  fault    {fault['sentence']}")
    for what in told["not_judged"]:
        tell(f"  unknown  {what}")


def tell_values(told: dict[str, Any], held: dict[str, dict[str, dict[str, Any]]]) -> None:
    """What each entry holds, slot by slot; tables with their break points."""
    units = {entry["key"]: entry["unit"] for entry in told["entries"]}
    for slot, entries in held.items():
        tell(f"{slot}:")
        for key, content in entries.items():
            _tell_content(key, units[key], content)


def _tell_content(key: str, unit: str, content: dict[str, Any]) -> None:
    if "values" not in content:
        shown = content.get("fault") or content.get("word") or content.get("text")
        tell(f"  {key} = {_number(content.get('value'), 6) if shown is None else shown} {unit}".rstrip())
        return
    tell(f"  {key} {unit}".rstrip())
    rows, digits = content["values"], content["decimals"]
    heads = [f"{y:g}" for y in content.get("y", ())] or [""]
    columns = [[f"{x:g}" for x in content["x"]], *([_number(v, digits) for v in row] for row in rows)]
    width = max(len(cell) for line in columns for cell in line)
    first = max(len(h) for h in heads)
    for head, line in zip(["", *heads], columns, strict=True):
        tell("    " + head.rjust(first) + "  " + " ".join(cell.rjust(width) for cell in line))


def _number(value: float | None, digits: int) -> str:
    return "no number" if value is None else f"{value:.{digits}f}".rstrip() if digits < 6 else f"{value:g}"
