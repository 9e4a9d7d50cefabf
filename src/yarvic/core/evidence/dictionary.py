"""How logs name channels: a dictionary that is data, and the reading of a header's words by it."""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cache, lru_cache
from importlib.resources import files

from pydantic import Field

from yarvic.core.document import Document, parse_toml, validated
from yarvic.core.errors import FormatError, UnitError
from yarvic.core.evidence.channels import CHANNELS, SPARK_CORRECTION
from yarvic.core.evidence.raw import MOST_LETTERS
from yarvic.core.units import UNITS, Reference, is_afr, read_unit

TIME = "time"
Names = dict[str, tuple[str, ...]]
Bounds = tuple[float, float]


class Words(Document):
    """How one channel is called, by language, and within which bounds its numbers lie (see the data)."""

    names: Names = Field(default_factory=dict)
    counted_down: Names = Field(default_factory=dict)
    perhaps: tuple[str, ...] = ()
    in_unit: str = ""
    lowest: Bounds = (-1e12, 1e12)
    highest: Bounds = (-1e12, 1e12)
    usual_low: Bounds | None = None
    usual_high: Bounds | None = None
    unstated: tuple[str, ...] = ()


class _Shop(Document):
    """Names that a shop adds: by channel, names and names counted the other way."""

    names: Names = Field(default_factory=dict)
    counted_down: Names = Field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class Named:
    """What a name stands for: a family of channels, its sign there (-1: counted the other way), and whether for certain."""

    family: str
    sign: int = 1
    certain: bool = True


def squeezed(text: str) -> str:
    """A name without case, accents, blanks and signs: all ways to write it are one."""
    flat = unicodedata.normalize("NFKD", text.replace("λ", "lambda").replace("Λ", "lambda")).casefold()
    return "".join(c for c in flat if c.isalnum())


def _spellings(name: str) -> Iterator[str]:
    """A name as it is written, and with the two letters that stand for an umlaut where there is none on the keyboard."""
    yield squeezed(name)
    lower = name.casefold()
    if re.search("[äöüåæø]", lower):
        for a, b in (("ä", "ae"), ("ö", "oe"), ("ü", "ue"), ("å", "aa"), ("æ", "ae"), ("ø", "oe")):
            lower = lower.replace(a, b)
        yield squeezed(lower)


class Dictionary:
    """Names of channels. Raises FormatError when one name would stand for two."""

    def __init__(self, words: Mapping[str, Words], source: str) -> None:
        self.words = words
        self._names: dict[str, Named] = {}
        for family, each in words.items():
            kind = CHANNELS.get(family)
            own = (family, kind.title) if kind is not None else ()
            for name in (*own, *_all(each.names)):
                self._add(name, Named(family), source)
            for name in _all(each.counted_down):
                self._add(name, Named(family, -1), source)
            for name in each.perhaps:
                self._add(name, Named(family, certain=False), source)

    def _add(self, name: str, meant: Named, source: str) -> None:
        for spelled in _spellings(name):
            known = self._names.setdefault(spelled, meant)
            if known != meant:
                raise FormatError(
                    f"{name!r} stands for {known.family} and for {meant.family}",
                    concerns=source,
                    remedy="Give each name to one channel.",
                )

    def find(self, name: str) -> Named | None:
        """What a bare name stands for."""
        return self._names.get(squeezed(name))

    def with_names(self, text: str, source: str) -> Dictionary:
        """This dictionary with the names that a shop adds: tables of channels with `names` and `counted_down` by language.

        Raises FormatError naming what cannot be: an unknown channel, a name that is another channel's.
        """
        added = {key: validated(_Shop, each, source=source) for key, each in parse_toml(text, source=source).items()}
        words = dict(self.words)
        for key, each in added.items():
            if key not in words:
                raise FormatError(
                    f"there is no channel {key!r}",
                    concerns=source,
                    remedy=f"Channels: {', '.join(sorted(words))}.",
                )
            old = words[key]
            words[key] = old.model_copy(
                update={
                    "names": _joined(old.names, each.names),
                    "counted_down": _joined(old.counted_down, each.counted_down),
                }
            )
        return Dictionary(words, source)


def _all(names: Names) -> Iterator[str]:
    return (name for each in names.values() for name in each)


def _joined(one: Names, other: Names) -> Names:
    return {language: (*one.get(language, ()), *other.get(language, ())) for language in {**one, **other}}


@cache
def dictionary() -> Dictionary:
    """The one that ships."""
    source = "channels.toml"
    text = files("yarvic.core.evidence").joinpath(f"data/{source}").read_text("utf-8")
    words = {key: validated(Words, each, source=source) for key, each in parse_toml(text, source=source).items()}
    for key, each in words.items():
        asked = [u for u in (each.in_unit, *each.unstated) if u]
        if key != TIME and any(UNITS[u].quantity != CHANNELS[key].quantity for u in asked):
            raise FormatError(f"a unit does not measure {key}", concerns=source, remedy="Correct the unit.")
    return Dictionary(words, source)


@dataclass(frozen=True, slots=True)
class Header:
    """What a column's header says: the family its name stands for, which of several, the words of its unit.

    `reference` is what words such as gauge in the name say of a pressure. `named` is None for an unknown name.
    """

    name: str
    unit: str
    named: Named | None = None
    which: str = ""
    reference: Reference = ""
    scaled: int = 0  # `RPM/10`, `Lambda x1000`: its numbers are this many times too large or too small

    @property
    def key(self) -> str:
        """The channel's key; empty where the name is not known."""
        if self.named is None:
            return ""
        return f"{self.named.family}_{self.which}" if self.which else self.named.family


_BRACKET = re.compile(
    r"^(?P<name>.*?)\s*(?:\[(?P<a>[^\[\]]*)\]|\((?P<b>(?:[^()]|\([^()]*\))*)\)|\{(?P<c>[^{}]*)\}|<(?P<d>[^<>]*)>)\s*$"
)
# `Boost bar(g)`: the bracket holds only what the pressure is counted from; its unit stands before it.
_BARE_PRESSURE = re.compile(
    r"^(?P<name>.*?)[\s,_/|-]*\b(?P<unit>[\w/]+\s*[\[(]\s*(?:a|abs|absolut\w*|g|gauge|rel|relativ\w*|d|diff)\s*[\])])\s*$",
    re.IGNORECASE,
)
# `RPM/10`, `Lambda (x1000)`, `ECT [°C*10]`.
_SCALED = re.compile(
    r"\s*(?P<open>[\[(])?\s*(?:/|÷|[×*]|(?<![a-z])x)\s*(?P<by>10|100|1000)\s*(?P<close>[\])])?\s*$", re.IGNORECASE
)
# What may stand between a name and its unit where there is no bracket, and how many words a unit can have.
_BETWEEN = re.compile(r"\s+in\s+|\s*[,|:;/]\s*|\s+-\s+|[\s_]+")
_MOST_UNIT_WORDS = 3
_REFERENCES: tuple[tuple[Reference, re.Pattern[str]], ...] = (
    ("absolute", re.compile(r"(?<![a-z])(absolu\w*|abs|assolut[ao]|bezwzgl\w*|абс\w*)(?![a-z])")),
    (
        "gauge",
        re.compile(
            r"(?<![a-z])(gauge|gage|relati[vf]\w*|rel|überdruck|sovrappressione|surpression|nadciśnienie|изб\w*)(?![a-z])"
        ),
    ),
)
_CYLINDER = r"(?:cylinder|cylindre|cilindro|cilinder|cylindr|zylinder|sylinteri|cyl|zyl|cil|c|цилиндр|цил)"
_WHICH = (
    re.compile(r"(?<![a-z])(?:bank|banc|b)\W*(?P<bank>\d)\W*(?:sensor|s)\W*(?P<sensor>\d)(?!\d)"),
    re.compile(rf"(?<![a-z]){_CYLINDER}\W*(?P<cylinder>\d{{1,2}})(?!\d)"),
    re.compile(r"(?<![a-z])(?:bank|banc|zylinderbank|bancada|b)\W*(?P<bank>\d)(?!\d)"),
    re.compile(r"(?<![a-z])(?:bank|banc)\W*(?P<letter>[ab])(?![a-z])"),
    re.compile(r"(?<![a-z])(?:sensor|capteur|sonde|sensore)\W*(?P<sensor>\d)(?!\d)"),
    re.compile(r"(?<![a-z])(?P<left>left|links|gauche|vänster|sinistr[ao]|izquierd[ao]|l)(?![a-z])"),
    re.compile(r"(?<![a-z])(?P<right>right|rechts|droite|höger|destr[ao]|derech[ao]|r)(?![a-z])"),
    re.compile(r"(?:#|nr\W*|no\W*|number\W*)?(?P<number>(?<!\d)\d{1,2})(?!\d)\W*$"),
    re.compile(r"^\W*(?P<number>\d{1,2})(?!\d)"),
)


@lru_cache(maxsize=8192)
def read_header(text: str, unit: str = "", words: Dictionary | None = None) -> Header:
    """Name, unit, and which of several of a header such as `Boost [kPa]`, `Knock retard cyl 2 (deg)`, `IAT_C`.

    `unit` is what stands in a line of units below, if there is one; it is used where the header itself names none. What is
    longer than any name is one that nobody knows.
    """
    text, unit = text[:MOST_LETTERS], unit[:MOST_LETTERS]
    words = words or dictionary()
    scaled = _SCALED.search(text) or _SCALED.search(unit)
    if scaled is not None and _unscaled(text):
        bare = read_header(_unscaled(text), _unscaled(unit), words)
        if bare.named is not None:
            return replace(bare, scaled=int(scaled["by"]))
    first: Header | None = None
    for name, found in _splits(text):
        header = _named(name, found or unit, words)
        if header.named is not None and (not found or _fits(found, header.named.family, text, found)):
            return header
        first = first or header
    assert first is not None
    return first


def _unscaled(text: str) -> str:
    """A header or unit without its mark of scale."""
    return _SCALED.sub(lambda m: "" if m["open"] else m["close"] or "", text).strip()


def _splits(text: str) -> Iterator[tuple[str, str]]:
    """The ways in which a header can be cut into a name and the words of a unit, the likeliest first."""
    bare = _BARE_PRESSURE.match(text)
    if bare and bare.group("name").strip() and not re.search(r"[\[(]\s*\w*$", bare.group("name")):
        yield bare.group("name").strip(), bare.group("unit")
    bracket = _BRACKET.match(text)
    if bracket and bracket.group("name").strip():
        inside = next(g for g in bracket.group("a", "b", "c", "d") if g is not None).strip()
        if re.search(r"[^\d\s#.]", inside) or inside == "1":
            yield bracket.group("name").strip(), inside
    yield text.strip(), ""
    cuts = list(_BETWEEN.finditer(text.strip()))
    for cut in cuts[-_MOST_UNIT_WORDS:]:
        name, found = text.strip()[: cut.start()].strip(), text.strip()[cut.end() :].strip()
        if name and found:
            yield name, found


def _fits(found: str, family: str, text: str, written: str) -> bool:
    """Whether words that may be a unit are taken as one: in brackets always, bare only where they measure this."""
    if re.search(rf"[\[({{<]\s*{re.escape(written)}\s*[\])}}>]\s*$", text):
        return True
    kind = CHANNELS.get(family)
    quantity = kind.quantity if kind is not None else "time"
    if (quantity == "mixture" and is_afr(found)) or (quantity in ("mixture", "ratio") and found == "-"):
        return True
    try:
        read_unit(found, quantity=quantity)
    except UnitError:
        return family == TIME and bool(re.fullmatch(r"[hHmMsS:.,]+", found))
    return True


def _named(name: str, unit: str, words: Dictionary) -> Header:
    """A name with what it stands for, whole or without its number and its word for gauge or absolute."""
    lower = re.sub(r"(?<=[a-zß-ÿ])(?=[A-Z])", " ", name).casefold().replace("_", " ")
    reference: Reference = next((r for r, pattern in _REFERENCES if pattern.search(lower)), "")
    named = words.find(name)
    if named is not None:
        return Header(name, unit, named, "", reference)
    bare = lower
    for _, pattern in _REFERENCES:
        bare = pattern.sub(" ", bare)
    for candidate in dict.fromkeys((lower, bare)):
        named = words.find(candidate)
        if named is not None:
            return Header(name, unit, named, "", reference)
        for pattern in _WHICH:
            match = pattern.search(candidate)
            if match is None:
                continue
            rest = f"{candidate[: match.start()]} {candidate[match.end() :]}"
            named = words.find(rest)
            if named is not None:
                which = _which(match.groupdict(), named.family)
                if which is not None:
                    return Header(name, unit, named, which, reference)
    return Header(name, unit, None, "", reference)


def _which(found: Mapping[str, str | None], family: str) -> str | None:
    """Which of several, as a key ends; None where there is no such one. A number 0 stays: the log decides what it is."""
    parts = {k: v for k, v in found.items() if v is not None}
    for side in ("left", "right"):
        if side in parts:
            return side
    if "letter" in parts:
        return f"bank_{1 if parts['letter'] == 'a' else 2}"
    numbers = {k: int(v) for k, v in parts.items()}
    if "cylinder" in numbers or "number" in numbers:
        number = numbers.get("cylinder", numbers.get("number", 0))
        bare = family == SPARK_CORRECTION or "number" in numbers or number == 0
        return str(number) if bare else f"cylinder_{number}"
    return "_".join(f"{k}_{v}" for k, v in numbers.items())
