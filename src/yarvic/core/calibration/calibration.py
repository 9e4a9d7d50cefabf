"""A calibration: the full set of tables, values and texts for one fuel slot."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import TypeVar

from yarvic.core.calibration.table import Scalar, Table, Text
from yarvic.core.errors import CalibrationError

T = TypeVar("T")


class Lazily(Mapping[str, T]):
    """Things by key, each made when it is first looked at. Looking raises what making it raises."""

    def __init__(self, keys: tuple[str, ...], make: Callable[[str], T]) -> None:
        self._keys, self._make = keys, make
        self._known: frozenset[str] | None = None
        self._made: dict[str, T] = {}

    def __getitem__(self, key: str) -> T:
        if key not in self._made:
            if key not in self:
                raise KeyError(key)
            self._made[key] = self._make(key)
        return self._made[key]

    def __contains__(self, key: object) -> bool:
        if self._known is None:
            self._known = frozenset(self._keys)
        return key in self._known

    def __iter__(self) -> Iterator[str]:
        return iter(self._keys)

    def __len__(self) -> int:
        return len(self._keys)


class _With(Mapping[str, T]):
    """Things by key, some of them replaced."""

    def __init__(self, before: Mapping[str, T], new: Mapping[str, T]) -> None:
        self._before: Mapping[str, T] = before
        self._new: dict[str, T] = dict(new)
        if isinstance(before, _With):
            self._before, self._new = before._before, {**before._new, **new}

    def __getitem__(self, key: str) -> T:
        if key in self._new:
            return self._new[key]
        return self._before[key]

    def __contains__(self, key: object) -> bool:
        return key in self._before

    def __iter__(self) -> Iterator[str]:
        return iter(self._before)

    def __len__(self) -> int:
        return len(self._before)


@dataclass(frozen=True)
class Calibration:
    """Tables, values and texts by key. Immutable: a change gives a new calibration."""

    family: str
    slot: str
    tables: Mapping[str, Table]
    scalars: Mapping[str, Scalar]
    texts: Mapping[str, Text] = field(default_factory=dict)

    def table(self, key: str) -> Table:
        """The table with this key. Raises CalibrationError when there is none."""
        if key not in self.tables:
            raise CalibrationError(f"there is no table {key!r}", remedy=f"Tables: {_some(self.tables)}.")
        return self.tables[key]

    def scalar(self, key: str) -> Scalar:
        """The scalar with this key. Raises CalibrationError when there is none."""
        if key not in self.scalars:
            raise CalibrationError(f"there is no scalar {key!r}", remedy=f"Scalars: {_some(self.scalars)}.")
        return self.scalars[key]

    def held(self, key: str) -> Table | Scalar | Text:
        """What an entry holds, whatever it is. Raises CalibrationError when there is none."""
        return self.scalars.get(key) or self.texts.get(key) or self.table(key)

    def with_table(self, table: Table) -> Calibration:
        """The calibration with one table replaced."""
        self.table(table.key)
        return replace(self, tables=_With(self.tables, {table.key: table}))

    def with_scalar(self, scalar: Scalar) -> Calibration:
        """The calibration with one scalar replaced."""
        self.scalar(scalar.key)
        return replace(self, scalars=_With(self.scalars, {scalar.key: scalar}))


def _some(things: Mapping[str, object]) -> str:
    names = list(things)
    return ", ".join(names[:12]) + (f" and {len(names) - 12} more" if len(names) > 12 else "")
