"""A calibration: the full set of tables and scalars for one fuel slot."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from yarvic.core.calibration.table import Scalar, Table
from yarvic.core.errors import CalibrationError


@dataclass(frozen=True)
class Calibration:
    """Tables and scalars by key. Immutable: a change gives a new calibration."""

    family: str
    slot: str
    tables: Mapping[str, Table]
    scalars: Mapping[str, Scalar]

    def table(self, key: str) -> Table:
        """The table with this key. Raises CalibrationError when there is none."""
        try:
            return self.tables[key]
        except KeyError:
            raise CalibrationError(
                f"there is no table {key!r}", remedy=f"Tables: {', '.join(self.tables)}."
            ) from None

    def scalar(self, key: str) -> Scalar:
        """The scalar with this key. Raises CalibrationError when there is none."""
        try:
            return self.scalars[key]
        except KeyError:
            raise CalibrationError(
                f"there is no scalar {key!r}", remedy=f"Scalars: {', '.join(self.scalars)}."
            ) from None

    def with_table(self, table: Table) -> Calibration:
        """The calibration with one table replaced."""
        self.table(table.key)
        return replace(self, tables={**self.tables, table.key: table})

    def with_scalar(self, scalar: Scalar) -> Calibration:
        """The calibration with one scalar replaced."""
        self.scalar(scalar.key)
        return replace(self, scalars={**self.scalars, scalar.key: scalar})
