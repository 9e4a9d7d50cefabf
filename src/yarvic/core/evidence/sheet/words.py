"""What the names on a dyno sheet say: where power was measured, by what it was corrected, of which run it is."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache, lru_cache
from importlib.resources import files
from typing import Any, Literal

from yarvic.core.document import parse_toml
from yarvic.core.evidence.dictionary import Dictionary, Names, Words, squeezed
from yarvic.core.units import unit

Basis = Literal["", "wheel", "crank"]
# Corrected by a standard that is not said.
SOME = "some"
# A name that a log's column has for the unit's own estimate is, on a sheet, that of the torque that was measured.
_LOG_ONLY = ("torque_estimate", "roller_torque")
# `P-Rad`, `M_Mot`: a letter for power or torque with its mark.
_LETTER = re.compile(r"[pm] ?(rad|wheel|mot|motor)")


@dataclass(frozen=True, slots=True)
class Marks:
    """What a name says besides what it names. `corrected_by` is a standard, `none`, `some`, or empty; `run` a number."""

    basis: Basis = ""
    corrected_by: str = ""
    run: str = ""
    loss: bool = False
    role: str = ""  # spread, end, part or whole of the run's own number; empty for that itself
    part: str = ""  # of a part, which one, as it is written


@cache
def sheet_data() -> dict[str, Any]:
    """Names, patterns and bounds (data/sheet.toml)."""
    source = "sheet.toml"
    return parse_toml(
        files("yarvic.core.evidence.sheet").joinpath(f"data/{source}").read_text("utf-8"), source=source
    )


@cache
def _patterns() -> list[tuple[str, str, re.Pattern[str]]]:
    data = sheet_data()
    found = [("run", "", p) for p in data["run"]["patterns"]]
    found += [("loss", "", p) for p in data["loss"]["patterns"]]
    found += [("role", what, p) for what, patterns in data["role"].items() for p in patterns]
    for kind in ("corrected", "basis"):
        found += [(kind, what, p) for what, patterns in data[kind].items() for p in patterns]
    # What names a standard stands before what only says that there is one.
    found.sort(key=lambda each: each[1] == SOME)
    return [(kind, what, re.compile(pattern)) for kind, what, pattern in found]


@lru_cache(maxsize=4096)
def marks_of(name: str) -> tuple[str, Marks]:
    """A name without its marks, and the marks."""
    # Joints between words are blanks, between a word in small letters and a capital too.
    rest = re.sub(r"(?<=[a-zß-ÿ])(?=[A-Z])", " ", name).casefold()
    rest = re.sub(r"\+ ?/ ?-", "±", rest)
    rest = re.sub(r"[_\-./:,;()\[\]]+", " ", rest)
    basis: Basis = ""
    by = run = ""
    role = part = ""
    loss = False
    for kind, what, pattern in _patterns():
        match = pattern.search(rest)
        if match is None:
            continue
        if kind == "run":
            run = run or str(int(match.group(1)))
        elif kind == "loss":
            loss = True
        elif kind == "role":
            if what == "mean" or (role and what != "spread"):
                pass  # the run's own number; of several roles the first counts, and a spread before all
            else:
                role, part = what, match.group() if what == "part" else ""
        elif kind == "corrected":
            if by and what != SOME:
                continue
            by = by or what
        else:
            if basis:
                continue
            basis = "wheel" if what == "wheel" else "crank"
            if _LETTER.fullmatch(match.group()):
                # The letter is the name.
                rest = f"{rest[: match.start()]}{match.group()[0]} {rest[match.end() :]}"
                continue
        rest = f"{rest[: match.start()]} {rest[match.end() :]}"
    return " ".join(rest.split()), Marks(basis, by, run, loss, role, part)


@lru_cache(maxsize=8)
def for_sheets(words: Dictionary) -> Dictionary:
    """The dictionary of channels as it reads the columns of a sheet."""
    names = sheet_data()["names"]
    mine = {k: v for k, v in words.words.items() if k not in _LOG_ONLY}
    mine["power"] = _with(words.words["power"], names["power"])
    estimate = words.words["torque_estimate"]
    mine["torque"] = _with(estimate, names["torque"])
    return Dictionary(mine, "sheet.toml")


def _with(words: Words, names: dict[str, list[str]]) -> Words:
    both: Names = {k: (*words.names.get(k, ()), *names.get(k, ())) for k in {**words.names, **names}}
    return words.model_copy(update={"names": both})


@cache
def _fact_names() -> dict[str, str]:
    return {squeezed(name): fact for fact, names in sheet_data()["facts"].items() for name in names}


def fact_named(name: str) -> str:
    """Which fact a name above a curve stands for; empty for an unknown one."""
    return _fact_names().get(squeezed(name), "")


@cache
def run_columns() -> frozenset[str]:
    """Names of a column that says of which run a row is."""
    return frozenset(squeezed(name) for name in sheet_data()["run"]["columns"])


def bounds(what: str) -> tuple[float, float]:
    """Within which bounds a fact lies, in SI."""
    low, high = sheet_data()["bounds"][what]
    return float(low), float(high)


def fitting_units(value: float, what: str, labels: tuple[str, ...]) -> list[str]:
    """The units in which a bare number lies within the bounds of a fact."""
    low, high = bounds(what)
    return [label for label in labels if low <= value * unit(label).factor + unit(label).offset <= high]
