"""What the columns of a dyno sheet mean: its channels by name, and which power and torque are the run's."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np

from yarvic.core.errors import UnitError
from yarvic.core.evidence.bounds import glance
from yarvic.core.evidence.dictionary import Dictionary, dictionary, read_header
from yarvic.core.evidence.guess import BY_NUMBERS, guess_columns
from yarvic.core.evidence.mapping import Column, CurveSaid
from yarvic.core.evidence.raw import ABOVE, RawColumn, RawLog
from yarvic.core.evidence.sheet.identity import belongs, units_by_identity
from yarvic.core.evidence.sheet.words import SOME, Basis, Marks, fact_named, for_sheets, marks_of
from yarvic.core.physics import FloatArray
from yarvic.core.typed_numbers import parse_gearing
from yarvic.core.units import read_unit, unit

_BRACKET = re.compile(r"^(?P<outer>.*?)\s*[\[({<](?P<inside>[^\[\](){}<>]*)[\])}>]\s*(?P<behind>.*)$")
MEASURED = ("power", "torque")
_CALLED = {"power": "power", "torque": "torque", "engine speed": "engine speed", "speed": "vehicle speed"}
_BEHIND = ("power", "torque", "speed", "pressure", "temperature")
# What a column may be that is the run's own number, and what is said of the others.
OWN = ("", "whole")
_NOT_OWN = {
    "spread": "how far runs scatter, and not what was measured",
    "end": "the least or greatest of several runs, and not one of them",
    "part": "one side or axle, and not the whole",
}
# Two powers of one run are one corrected and one not where their ratio is as even as this. Our choice.
EVEN_RATIO = 0.004


@dataclass(frozen=True)
class Cleaned:
    """A header without its marks: name and unit as the dictionary of channels knows them."""

    name: str
    unit: str
    marks: Marks


def cleaned(name: str, words: str = "") -> Cleaned:
    """Take the marks off a header such as `Wheel power SAE [hp]`, `P-Rad (kW)` or `WHP`."""
    name, words = name.strip(), words.strip()
    while (bracket := _BRACKET.match(name)) is not None and bracket["outer"]:
        if not words and _is_unit(bracket["inside"]):
            name, words = f"{bracket['outer']} {bracket['behind']}".strip(), bracket["inside"]
        else:
            name = f"{bracket['outer']} {bracket['inside']} {bracket['behind']}".strip()
    # In capitals it is the Polish horsepower, and no distance.
    unit_words, of_unit = ("PS", Marks()) if words == "KM" else _bare_unit(words)
    if not unit_words and _is_unit(name):
        # A name that is a unit names what the unit measures: `whp`, `Nm`.
        label, of_name = _bare_unit(name)
        called = _CALLED.get(read_unit(label)[0].quantity, "")
        if called:
            return Cleaned(called, label, _both(of_name, of_unit))
    if not unit_words:
        name, unit_words, of_name = _unit_behind(name)
        of_unit = _both(of_unit, of_name)
    rest, marks = marks_of(name)
    if not rest and unit_words and _reads(unit_words):
        rest = _CALLED.get(read_unit(unit_words)[0].quantity, "")
    return Cleaned(rest or name, unit_words, _both(marks, of_unit))


def _unit_behind(name: str) -> tuple[str, str, Marks]:
    """A name that ends in a unit of what a dyno measures, without a bracket: `Power kW`, `Torque_lb ft`."""
    words = re.split(r"[\s_]+", name)
    for count in (1, 2):
        tail = " ".join(words[-count:])
        if len(words) > count and _is_unit(tail):
            label, marks = _bare_unit(tail)
            if read_unit(label)[0].quantity in _BEHIND:
                return " ".join(words[:-count]), label, marks
    return name, "", Marks()


def _both(one: Marks, other: Marks) -> Marks:
    return Marks(
        one.basis or other.basis,
        one.corrected_by or other.corrected_by,
        one.run or other.run,
        one.loss or other.loss,
        one.role or other.role,
        one.part or other.part,
    )


def _bare_unit(words: str) -> tuple[str, Marks]:
    """A unit without what else stands beside it: `hp (SAE)`, `kW wheel`; `whp` is hp at the wheels."""
    rest, marks = marks_of(words)
    if rest and _reads(words):
        return words, Marks()  # a unit as it stands, whatever its letters might mark: rad/s
    for text in (rest, words):
        if text and _reads(text):
            return text, marks
    return words, marks


def _is_unit(words: str) -> bool:
    return bool(words.strip()) and any(_reads(text) for text in (words, marks_of(words)[0]) if text)


def _reads(words: str) -> bool:
    try:
        read_unit(words)
    except UnitError:
        return False
    return True


def sheet_columns(raw: RawLog, words: Dictionary) -> list[Column]:
    """The meaning of every column of a curve; of several powers and torques the one taken is the run's own.

    Measured at the wheels goes before the crank, as measured before corrected: what was added to a number is taken
    off least surely.
    """
    clean = [cleaned(c.name, c.unit) for c in raw.columns]
    clean = [
        k if k.marks.role in OWN or _measures(k, words) else _plain(c)
        for c, k in zip(raw.columns, clean, strict=True)
    ]
    # What is no number of the run's own keeps a name that nothing knows.
    names = [k.name if k.marks.role in OWN else f"{k.marks.role} of {k.name}" for k in clean]
    bare = [replace(c, name=n, unit=k.unit) for c, n, k in zip(raw.columns, names, clean, strict=True)]
    found = [
        c.changed(name=r.name, header_unit=r.unit)
        for c, r in zip(guess_columns(replace(raw, columns=bare), words), raw.columns, strict=True)
    ]
    for n, (column, k) in enumerate(zip(found, clean, strict=True)):
        if k.marks.loss and column.channel.startswith(MEASURED):
            found[n] = column.left_aside("what the drivetrain takes, and not what was measured")
        if k.marks.role not in OWN:
            found[n] = column.left_aside(_NOT_OWN[k.marks.role])
    powers = [n for n, c in enumerate(found) if c.channel == "power"]
    for key in MEASURED:
        _choose(key, raw, found, clean)
    _torque_of_another(raw, found, powers, clean)
    return found


def _measures(k: Cleaned, words: Dictionary) -> bool:
    """Whether a column names power or torque: of those alone sides, axles and deviations are told apart here."""
    named = read_header(k.name, k.unit, words).named
    return named is not None and named.family in MEASURED


def _plain(column: RawColumn) -> Cleaned:
    """A column as it is called: its side or end belongs to its name."""
    return Cleaned(column.name, column.unit, Marks())


def _torque_of_another(raw: RawLog, found: list[Column], powers: list[int], clean: list[Cleaned]) -> None:
    """Leave a torque aside that belongs to another power than the one taken, by P = T w: torque follows from that."""
    places = {c.channel: n for n, c in enumerate(found) if c.channel in ("engine_speed", *MEASURED)}
    if len(places) < 3 or len(powers) < 2 or not all(found[n].unit for n in places.values()):
        return
    rpm, torque = (_canonical(raw.columns[places[k]], found[places[k]].unit) for k in ("engine_speed", "torque"))
    units = {n: clean[n].unit or found[places["power"]].unit for n in powers}
    fits = [
        n
        for n in powers
        if _is_unit(units[n]) and belongs(rpm, _canonical(raw.columns[n], read_unit(units[n])[0].label), torque)
    ]
    if fits and places["power"] not in fits:
        at = places["torque"]
        found[at] = found[at].left_aside(f"belongs to '{found[fits[0]].name}', by power = torque x speed")


def _canonical(raw: RawColumn, label: str) -> FloatArray:
    return np.asarray(raw.values * unit(label).factor)


def _choose(key: str, raw: RawLog, found: list[Column], clean: list[Cleaned]) -> None:
    """Of several columns of power (or torque) take one, and leave the others aside with the reason."""
    there = [n for n, c in enumerate(found) if c.channel == key]
    if len(there) < 2:
        return
    kinds = {n: clean[n].marks for n in there}
    if len({(m.basis, m.corrected_by) for m in kinds.values()}) < 2:
        return  # alike in name: settled, or asked, as any two columns are
    plain = [n for n in there if not kinds[n].corrected_by]
    best = min(there, key=lambda n: (_RANK_BASIS[kinds[n].basis], _rank_corrected(kinds[n], n in plain)))
    for n in there:
        if n != best:
            found[n] = found[n].left_aside(f"'{found[best].name}' was taken for {key}")


_RANK_BASIS: dict[Basis, int] = {"wheel": 0, "": 1, "crank": 2}


def _rank_corrected(marks: Marks, plain: bool) -> int:
    return 0 if marks.corrected_by == "none" else 1 if plain else 2 if marks.corrected_by != SOME else 3


def by_identity(raw: RawLog, columns: list[Column]) -> list[Column]:
    """Units of power and torque that their headers leave open, where P = T w compels them."""
    places = {c.channel: n for n, c in enumerate(columns) if c.channel in ("engine_speed", *MEASURED)}
    if len(places) < 3 or not columns[places["engine_speed"]].unit:
        return columns
    power, torque = columns[places["power"]], columns[places["torque"]]
    if power.unit and torque.unit:
        return columns
    speed = columns[places["engine_speed"]]
    numbers = {k: glance(raw.columns[n].values) for k, n in places.items()}
    rpm = numbers["engine_speed"] * unit(speed.unit).factor
    both = units_by_identity(rpm, numbers["power"], numbers["torque"], power.unit, torque.unit)
    if both is None:
        return columns
    found = list(columns)
    for key, label in zip(MEASURED, both, strict=True):
        if not found[places[key]].unit:
            found[places[key]] = found[places[key]].changed(
                unit=label, question="", about="", how="guessed", confidence=BY_NUMBERS,
                reason=f"no unit is stated; by power = torque x speed it can only be {label}",
            )  # fmt: skip
    return found


def curve_said(raw: RawLog, columns: list[Column], known: CurveSaid | None) -> CurveSaid:
    """What the headers, the lines above them and what was confirmed before say of a curve's numbers."""
    marks = [cleaned(c.name, c.header_unit).marks for c in columns if c.channel in MEASURED]
    facts = {fact_named(name): text for name, text in raw.facts.items() if fact_named(name)}
    above = marks_of(_title(raw.facts))[1]
    basis = _only([m.basis for m in marks]) or marks_of(facts.get("basis", ""))[1].basis or above.basis
    by = _only([m.corrected_by for m in marks]) or _corrected_by(facts) or above.corrected_by
    if not by or by == SOME:
        by = _uncorrected_beside(raw, columns) or ("" if by == SOME else by)
    if not basis and known is not None and known.basis:
        raw.notes.append(f"measured at the {known.basis}, as was confirmed for the last sheet of these names")
    return CurveSaid.model_validate(
        {
            "basis": basis or (known.basis if known is not None else ""),
            "corrected_by": "" if by == SOME else by,
            "rpm_per_m_s": _gearing(raw.facts),
        }
    )


def _title(facts: Mapping[str, str]) -> str:
    """What stands above a curve and names nothing, or power itself: `Wheel power, SAE J1349` in one cell or in two."""
    mine = for_sheets(dictionary())
    named = [
        f"{n} {t}"
        for n, t in facts.items()
        if not fact_named(n) and n != ABOVE and (marks_of(n)[1].basis or _measures(cleaned(n), mine))
    ]
    return "; ".join([facts.get(ABOVE, ""), *named])


def _gearing(facts: Mapping[str, str]) -> float | None:
    """Engine speed for road speed, rpm per m/s, where a line says it with its unit."""
    for name, text in facts.items():
        bare, _, inside = name.partition("[" if "[" in name else "(")
        if fact_named(bare) != "ratio":
            continue
        for words in (text, f"{text} {inside.rstrip(')] ')}"):
            try:
                return parse_gearing(words)
            except UnitError:
                continue
    return None


def _only(said: list[str]) -> str:
    """What all that say something say; empty where two differ."""
    each = {s for s in said if s}
    return each.pop() if len(each) == 1 else ""


def _corrected_by(facts: dict[str, str]) -> str:
    text = (facts.get("correction") or facts.get("factor", "")).strip()
    if text.casefold() in ("none", "no", "off", "keine", "aucune", "nessuna", "ninguna", "-", "0", "uncorrected"):
        return "none"
    return marks_of(text)[1].corrected_by if text else ""


def _uncorrected_beside(raw: RawLog, columns: list[Column]) -> str:
    """`none` where the power that was taken has a corrected one beside it, larger or smaller by one factor all along."""
    taken = next((n for n, c in enumerate(columns) if c.channel == "power"), None)
    if taken is None or cleaned(columns[taken].name, columns[taken].header_unit).marks.corrected_by:
        return ""
    for column in raw.columns:
        k = cleaned(column.name, column.unit)
        if column is raw.columns[taken] or not k.marks.corrected_by or k.marks.loss:
            continue
        named = read_header(k.name, k.unit, for_sheets(dictionary())).named
        if named is not None and named.family == "power" and _evenly_apart(raw.columns[taken], column):
            return "none"
    return ""


def _evenly_apart(one: RawColumn, other: RawColumn) -> bool:
    a, b = one.values, other.values
    strong = np.isfinite(a) & np.isfinite(b) & (a > 0.3 * np.nanmax(a, initial=0.0))
    if np.count_nonzero(strong) < 5:
        return False
    ratio: FloatArray = b[strong] / a[strong]
    middle = float(np.median(ratio))
    return 0.7 < middle < 1.6 and float(np.percentile(np.abs(ratio / middle - 1.0), 90)) < EVEN_RATIO
