"""VARIANT_CODING: entries of which a memory holds several, one for each variant of the vehicle.

Rules from memory of ASAM MCD-2 MC 1.6. Where several criteria are combined, the order of their addresses is not read out
of the standard here: such variants are numbered, and not named.
"""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

from yarvic.core.calibration.faults import Fault
from yarvic.core.calibration.layout import Axis, Entry, SharedAxis
from yarvic.core.formats.asap2.blocks import Block
from yarvic.core.formats.asap2.entries import Made
from yarvic.core.formats.asap2.reading import Unfit, text, whole

_BEHIND_VALUES = ("VAR_MEASUREMENT", "VAR_SELECTION_CHARACTERISTIC")
MOST_VARIANTS = 256


@dataclass(frozen=True)
class Varied:
    """What is there several times: by which criteria, and at which addresses; `names` where they are known."""

    name: str
    criteria: tuple[str, ...]
    addresses: tuple[int, ...]
    names: tuple[str, ...]
    line: int

    def title(self, of: str, n: int) -> str:
        """The title of a variant, counted from nought."""
        which = f"{self.criteria[0]}: {self.names[n]}" if self.names else f"by {' and '.join(self.criteria)}"
        return f"{of}, variant {n + 1} of {len(self.addresses)} ({which})"[:1000]


class Variants:
    """The variants of a module."""

    def __init__(self, module: Block) -> None:
        self._by_name: dict[str, Varied] = {}
        self._faults: list[Fault] = []
        for coding in module.of("VARIANT_CODING"):
            values = dict(_criterion(c) for c in coding.of("VAR_CRITERION"))
            for block in coding.of("VAR_CHARACTERISTIC"):
                self._take(block, values)

    def _take(self, block: Block, values: dict[str, tuple[str, ...]]) -> None:
        words = [text(w) for w in block.words()]
        if not words:
            return
        name, criteria = words[0], tuple(words[1:])
        by = " and ".join(criteria) or "a criterion that is not stated"
        try:
            addresses = tuple(whole(w) for inner in block.of("VAR_ADDRESS") for w in inner.words())
        except Unfit as unfit:
            self._say(name, unfit.reason, "Correct its VAR_ADDRESS.", block.line)
            return
        if not addresses:
            what = f"differs by {by}, and its addresses are not stated: only the one of its own entry is read"
            self._say(name, what, "State them (VAR_ADDRESS), and edit it only when you know whose it is.", block.line)
            return
        named = values.get(criteria[0], ()) if len(criteria) == 1 else ()
        if named and len(named) != len(addresses):
            what = (
                f"has {len(addresses)} addresses for the {len(named)} variants of {by}: they are numbered, not named"
            )
            self._say(name, what, "Correct its VAR_ADDRESS.", block.line)
            named = ()
        self._by_name[name] = Varied(name, criteria or ("criterion",), addresses, named, block.line)

    def _say(self, name: str, what: str, remedy: str, line: int) -> None:
        self._faults.append(Fault(name, what, remedy, line))

    def faults(self, known: Collection[str]) -> list[Fault]:
        """What is wrong with them; `known` are the names that the module has."""
        lost = [v for v in self._by_name.values() if v.name not in known and f"{v.name}[0]" not in known]
        return [
            *self._faults,
            *(Fault(v.name, "has variants, and no entry of its own", "Add its entry.", v.line) for v in lost),
        ]

    def of_axis(self, axis: SharedAxis) -> dict[str, SharedAxis]:
        """The variants of a shared axis, by their keys."""
        varied = self._by_name.get(axis.key)
        if varied is None:
            return {}
        if axis.kind == "pairs" or len(varied.addresses) > MOST_VARIANTS:
            raise Unfit("variants of an axis of this kind are not read here")
        return {
            key: axis.model_copy(update={"key": key, "address": address})
            for n, address in enumerate(varied.addresses)
            for key in (f"{axis.key}[{n}]",)
        }

    def made(self, name: str, made: Made) -> Made:
        """The entries of a characteristic, each variant as one of its own. Raises Unfit where they cannot be told."""
        varied = self._by_name.get(name)
        if varied is None:
            if len(made.entries) == 1:
                for axis in _of(made.entries[0]):
                    self._same(axis, 0)
            return made
        if len(made.entries) != 1 or len(varied.addresses) > MOST_VARIANTS:
            raise Unfit("variants of a cuboid, and more than 256 of one entry, are not read here")
        entry, count = made.entries[0], len(varied.addresses)
        own = [(n, address) for n, address in enumerate(varied.addresses)]
        return Made([self._variant(entry, varied, n, address, count) for n, address in own], made.records)

    def _variant(self, entry: Entry, varied: Varied, n: int, address: int, count: int) -> Entry:
        axes = {
            which: axis.model_copy(update={"of": f"{axis.of}[{n}]"})
            for which, axis in (("x", entry.x), ("y", entry.y))
            if axis is not None and self._same(axis, count)
        }
        if address < 0:
            raise Unfit("an address of its variants is below nought", fault=True)
        title = varied.title(entry.named, n)
        return entry.model_copy(update={"key": f"{entry.key}[{n}]", "title": title, "address": address, **axes})

    def _same(self, axis: Axis, count: int) -> bool:
        """Whether an axis has variants of its own, as many as its table."""
        varied = self._by_name.get(axis.of) if axis.of else None
        if varied is None:
            return False
        if len(varied.addresses) != count:
            raise Unfit(f"its axis {axis.of} has {len(varied.addresses)} variants, and it has {count or 'none'}")
        return True


def _of(entry: Entry) -> list[Axis]:
    return [axis for axis in (entry.x, entry.y) if axis is not None]


def _criterion(block: Block) -> tuple[str, tuple[str, ...]]:
    """The name of a criterion, and its values."""
    words = block.words()
    values: list[str] = []
    for word in words[2:]:
        if word in _BEHIND_VALUES:
            break
        values.append(text(word))
    return (text(words[0]) if words else ""), tuple(values)
