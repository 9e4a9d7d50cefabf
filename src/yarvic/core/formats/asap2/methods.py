"""COMPU_METHOD and its tables: conversions, with their unit and how many digits are shown."""

from __future__ import annotations

import ast
from collections.abc import Mapping
from dataclasses import dataclass

from pydantic import ValidationError

from yarvic.core.calibration.conversion import PLAIN, Linear, Named, Points, Rational, Words
from yarvic.core.document import first_fault
from yarvic.core.formats.asap2.blocks import Block
from yarvic.core.formats.asap2.reading import Unfit, count_of, decimals, needs, number, options, text

NONE = "NO_COMPU_METHOD"
_METHOD = {"COEFFS": 6, "COEFFS_LINEAR": 2, "COMPU_TAB_REF": 1, "REF_UNIT": 1, "STATUS_STRING_REF": 1}
_TAB = {"DEFAULT_VALUE": 1, "DEFAULT_VALUE_NUMERIC": 1}
MOST_FORMULA = 300
Converted = Linear | Rational | Points | Words


@dataclass(frozen=True)
class Method:
    """A conversion by name; `reason` says why it cannot be used here, empty where it can."""

    name: str
    conversion: Converted | None = None
    unit: str = ""
    decimals: int | None = None
    reason: str = ""
    fault: bool = False


class Methods:
    """The conversions of a module, each worked out when it is first asked for."""

    def __init__(self, module: Block) -> None:
        self._blocks = _by_name(module, "COMPU_METHOD")
        self._tabs = {kind: _by_name(module, kind) for kind in ("COMPU_TAB", "COMPU_VTAB", "COMPU_VTAB_RANGE")}
        self._units = _by_name(module, "UNIT")
        self._made: dict[str, Method] = {NONE: Method(NONE)}

    @property
    def used(self) -> Mapping[str, Converted]:
        """The conversions that were asked for, by name, but those that change nothing."""
        return {m.name: m.conversion for m in self._made.values() if m.conversion is not None}

    def get(self, name: str) -> Method:
        """The conversion of this name."""
        if name not in self._made:
            self._made[name] = self._method(name)
        return self._made[name]

    def _method(self, name: str) -> Method:
        block = self._blocks.get(name)
        if block is None:
            return Method(name, reason=f"there is no COMPU_METHOD {name}", fault=True)
        unit, digits = "", None
        try:
            words = needs(block, 5)
            unit, digits = text(words[4]), decimals(words[3])
            told = options(words, 5, _METHOD)
            if not unit and "REF_UNIT" in told:
                unit = self._unit(told["REF_UNIT"][0])
            found = self._conversion(block, words[2], told)
            return Method(name, None if found == PLAIN else found, unit, digits)
        except Unfit as unfit:
            return Method(name, None, unit, digits, f"its conversion {name}: {unfit.reason}", unfit.fault)
        except ValidationError as error:
            return Method(name, None, unit, digits, f"its conversion {name}: {first_fault(error)}", True)

    def _unit(self, name: str) -> str:
        block = self._units.get(name)
        words = block.words() if block is not None else []
        return text(words[2]) if len(words) > 2 else ""

    def _conversion(self, block: Block, kind: str, told: Mapping[str, list[str]]) -> Converted | None:
        if kind == "IDENTICAL":
            return None
        if kind == "LINEAR":
            a, b = (number(w) for w in _wanted(told, "COEFFS_LINEAR", kind))
            return Linear(factor=a, offset=b)
        if kind == "RAT_FUNC":
            return _rational(*(number(w) for w in _wanted(told, "COEFFS", kind)))
        if kind == "FORM":
            return _formula(block)
        if kind in ("TAB_INTP", "TAB_NOINTP"):
            return self._points(_wanted(told, "COMPU_TAB_REF", kind)[0], steps=kind == "TAB_NOINTP")
        if kind == "TAB_VERB":
            return self._words(_wanted(told, "COMPU_TAB_REF", kind)[0])
        raise Unfit(f"{kind} is no kind of conversion that is known", fault=True)

    def _points(self, name: str, *, steps: bool) -> Points:
        words = self._tab("COMPU_TAB", name, 4)
        count = count_of(words[3])
        pairs = [number(w) for w in words[4 : 4 + 2 * count]]
        if len(pairs) != 2 * count:
            raise Unfit(f"COMPU_TAB {name} has fewer pairs than it says", fault=True)
        ordered = sorted(zip(pairs[::2], pairs[1::2], strict=True))
        told = options(words, 4 + 2 * count, _TAB)
        return Points(
            raws=tuple(r for r, _ in ordered),
            values=tuple(v for _, v in ordered),
            steps=steps,
            otherwise=number(told["DEFAULT_VALUE_NUMERIC"][0]) if "DEFAULT_VALUE_NUMERIC" in told else None,
        )

    def _tab(self, kind: str, name: str, least: int) -> list[str]:
        block = self._tabs[kind].get(name)
        if block is None:
            raise Unfit(f"there is no {kind} {name}", fault=True)
        return needs(block, least)

    def _words(self, name: str) -> Words:
        if name in self._tabs["COMPU_VTAB_RANGE"]:
            words, width, first = self._tab("COMPU_VTAB_RANGE", name, 3), 3, 3
        else:
            words, width, first = self._tab("COMPU_VTAB", name, 4), 2, 4
        count = count_of(words[first - 1])
        end = first + width * count
        if len(words) < end:
            raise Unfit(f"{name} has fewer words than it says", fault=True)
        rows = [words[at : at + width] for at in range(first, end, width)]
        found = [Named(low=number(r[0]), high=number(r[-2]), text=text(r[-1])) for r in rows]
        otherwise = options(words, end, _TAB).get("DEFAULT_VALUE", [""])[0]
        return Words(words=tuple(found), otherwise=text(otherwise))


def _by_name(module: Block, keyword: str) -> dict[str, Block]:
    found: dict[str, Block] = {}
    for block in module.of(keyword):
        words = block.words()
        if words:
            found.setdefault(text(words[0]), block)
    return found


def _wanted(told: Mapping[str, list[str]], keyword: str, kind: str) -> list[str]:
    if keyword not in told:
        raise Unfit(f"{kind} without its {keyword}", fault=True)
    return told[keyword]


def _rational(a: float, b: float, c: float, d: float, e: float, f: float) -> Converted | None:
    """raw = (a x2 + b x + c) / (d x2 + e x + f): what it is where it is of the first degree."""
    if a or d:
        raise Unfit("a rational function of the second degree gives two values for one number")
    if not e:
        if not b or not f:
            raise Unfit("its factor is nothing", fault=True)
        # raw = (b x + c) / f
        return None if b == f and not c else Linear(factor=f / b, offset=-c / b if c else 0.0)
    return Rational(b=b, c=c, e=e, f=f)


def _formula(block: Block) -> Converted | None:
    """A formula that is of the first degree in X1, over one that is. Raises Unfit for any other."""
    inner = next(block.of("FORMULA"), None)
    words = inner.words() if inner is not None else []
    if not words:
        raise Unfit("FORM without its FORMULA", fault=True)
    told = text(words[0])
    try:
        if len(told) > MOST_FORMULA:
            raise ValueError("too long")
        tree = ast.parse(told.replace("^", "**"), mode="eval").body
        (n0, n1), (d0, d1) = _of_first_degree(tree)
    except (SyntaxError, ValueError, RecursionError, MemoryError, ZeroDivisionError):
        raise Unfit(f"its formula {told[:80]!r} is not simple") from None
    # x = (n0 + n1 raw) / (d0 + d1 raw), so raw = (d0 x - n0) / (n1 - d1 x).
    if not d1:
        if not d0 or not n1:
            raise Unfit("its factor is nothing", fault=True)
        return Linear(factor=n1 / d0, offset=n0 / d0)
    return Rational(b=d0, c=-n0, e=-d1, f=n1)


Line = tuple[float, float]
Fraction = tuple[Line, Line]


def _of_first_degree(node: ast.AST) -> Fraction:
    """A formula as one line over another. Raises ValueError where it is none."""
    if isinstance(node, ast.Constant) and isinstance(node.value, int | float) and not isinstance(node.value, bool):
        return (float(node.value), 0.0), (1.0, 0.0)
    if isinstance(node, ast.Name) and node.id.upper() in ("X1", "X"):
        return (0.0, 1.0), (1.0, 0.0)
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.USub | ast.UAdd):
        n, d = _of_first_degree(node.operand)
        return (_times(n, (-1.0, 0.0)), d) if isinstance(node.op, ast.USub) else (n, d)
    if isinstance(node, ast.BinOp):
        (n1, d1), (n2, d2) = _of_first_degree(node.left), _of_first_degree(node.right)
        if isinstance(node.op, ast.Add | ast.Sub):
            if isinstance(node.op, ast.Sub):
                n2 = _times(n2, (-1.0, 0.0))
            if d1 == d2:
                return (n1[0] + n2[0], n1[1] + n2[1]), d1
            a, b = _times(n1, d2), _times(n2, d1)
            return (a[0] + b[0], a[1] + b[1]), _times(d1, d2)
        if isinstance(node.op, ast.Mult):
            return _times(n1, n2), _times(d1, d2)
        if isinstance(node.op, ast.Div):
            return _times(n1, d2), _times(d1, n2)
    raise ValueError("not simple")


def _times(a: Line, b: Line) -> Line:
    """The product of two lines, where it is a line."""
    if a[1] and b[1]:
        raise ValueError("of the second degree")
    return a[0] * b[0], a[0] * b[1] + a[1] * b[0]
