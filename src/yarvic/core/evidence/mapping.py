"""What the columns of a log mean: found by the importer, confirmed by a person, kept for the next file of that logger."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Sequence
from dataclasses import dataclass
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from yarvic.core.document import Document
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.dictionary import TIME, squeezed
from yarvic.core.evidence.raw import RawColumn
from yarvic.core.typed_numbers import MOST_RPM_PER_M_S
from yarvic.core.units import UNITS, Reference

# What a mixture is counted in besides lambda: an air-fuel ratio, which needs its fuel, and one over lambda.
AFR, PHI = "AFR", "phi"
How = Literal["used", "guessed", "not_understood", "confirmed"]
About = Literal["", "reference", "sign", "unit", "time", "fuel", "column"]
# A guess that is less sure than this is not judged by.
SURE = 0.9
MOST_COLUMNS = 5_000
_AS_IT_STANDS: dict[str, Any] = {"factor": 1.0, "offset": 0.0, "plus": "", "plus_unit": ""}


class Column(Document):
    """One column's meaning. `channel` is empty for one that is kept under its own name, `time` for the stamps.

    `sign` -1: counted the other way round. `stoichiometric_afr` belongs to a column in AFR. `question` is what has to
    be answered before it may be judged by, `about` what that concerns; `reason` says where the meaning comes from. `seen`
    is where its numbers lay in the file it was confirmed for, 2nd and 98th percentile in canonical units. Its numbers
    times `factor` plus `offset`, plus those of the column `plus` in `plus_unit`, are in its unit: as a person says.
    """

    name: Annotated[str, Field(max_length=400)]
    header_unit: Annotated[str, Field(max_length=400)] = ""
    channel: str = ""
    unit: str = ""
    reference: Reference = ""
    sign: Literal[-1, 1] = 1
    stoichiometric_afr: Annotated[float, Field(ge=1.0, le=40.0)] | None = None
    how: How = "not_understood"
    confidence: Annotated[float, Field(ge=0.0, le=1.0)] = 0.0
    reason: str = ""
    question: str = ""
    about: About = ""
    seen: tuple[float, float] | None = None
    factor: Annotated[float, Field(ge=-1e12, le=1e12, allow_inf_nan=False)] = 1.0
    offset: Annotated[float, Field(ge=-1e12, le=1e12, allow_inf_nan=False)] = 0.0
    plus: Annotated[str, Field(max_length=400)] = ""
    plus_unit: str = ""

    @model_validator(mode="after")
    def _makes_sense(self) -> Column:
        if self.factor == 0.0:
            raise ValueError(f"{self.name}: numbers times zero are nothing")
        if self.channel == TIME and self.factor < 0.0:
            raise ValueError(f"{self.name}: time that is multiplied by less than zero runs backward")
        if self.plus_unit and (self.plus_unit not in UNITS or not self._adds(self.plus_unit)):
            raise ValueError(
                f"{self.name}: {self.plus_unit} cannot be added to {self.unit or 'numbers without a unit'}"
            )
        kind = CHANNELS.get(self.channel)
        if self.channel and self.channel != TIME and kind is None:
            raise ValueError(f"there is no channel {self.channel!r}")
        quantity = "time" if self.channel == TIME else kind.quantity if kind is not None else ""
        if self.unit in (AFR, PHI):
            if quantity != "mixture":
                raise ValueError(f"{self.name}: {self.unit} measures mixture, not {quantity or 'nothing known'}")
        elif quantity and self.unit and (self.unit not in UNITS or UNITS[self.unit].quantity != quantity):
            raise ValueError(f"{self.name}: unit {self.unit!r} does not measure {quantity}")
        return self

    def _adds(self, label: str) -> bool:
        """Whether numbers in a unit can be added to those of this column: degrees from two zeros cannot."""
        mine = UNITS.get(self.unit)
        return label == self.unit or (
            mine is not None and mine.quantity == UNITS[label].quantity and mine.offset == UNITS[label].offset == 0.0
        )

    @property
    def scaled(self) -> bool:
        """Whether a person says that its numbers are to be multiplied, or something added."""
        return self.factor != 1.0 or self.offset != 0.0 or bool(self.plus)

    @property
    def scale_in_words(self) -> str:
        """What is done with its numbers, such as `x 2 + 10 + 'rest'`; empty where nothing is."""
        words = [f"\u00d7 {self.factor:g}"] if self.factor != 1.0 else []
        if self.offset:
            words.append(f"+ {self.offset:g}" if self.offset > 0 else f"\u2212 {-self.offset:g}")
        if self.plus:
            words.append(f"+ '{self.plus}'{f' in {self.plus_unit}' if self.plus_unit not in ('', self.unit) else ''}")
        return " ".join(words)

    @property
    def doubtful(self) -> bool:
        """Whether it may not be judged by."""
        return bool(self.question) or (self.how == "guessed" and self.confidence < SURE)

    def told(self, **said: Any) -> Column:
        """The column as a person says it is: channel, unit, reference, sign, ratio; what that leaves open is asked.

        Another channel of another quantity keeps no unit. Raises ValueError for a channel or unit that cannot be.
        """
        values = {
            **self.entries(),
            **said,
            "how": "confirmed",
            "confidence": 1.0,
            "question": "",
            "about": "",
            "seen": None,
        }
        kind = CHANNELS.get(values["channel"])
        if values["channel"] == TIME:
            values.update(reference="", sign=1, stoichiometric_afr=None)
            if UNITS.get(values["unit"], UNITS["%"]).quantity != "time":
                values.update(
                    unit="s", question="no unit of time was chosen", about="time", how="guessed", confidence=0.5
                )
        elif kind is None:
            values.update(unit="", reference="", sign=1, **_AS_IT_STANDS)
        else:
            fits = kind.quantity == "mixture" and values["unit"] in (AFR, PHI)
            if values["unit"] and not fits and UNITS.get(values["unit"], UNITS["%"]).quantity != kind.quantity:
                values["unit"] = ""
            if kind.reference != "absolute":
                values["reference"] = ""
            if not values["unit"]:
                values.update(question="no unit was chosen", about="unit", how="guessed", confidence=0.5)
            elif kind.reference == "absolute" and not values["reference"]:
                values.update(
                    question="whether it is absolute or gauge pressure was not chosen", about="reference",
                    how="guessed", confidence=0.5,
                )  # fmt: skip
        if not values["plus"]:
            values["plus_unit"] = ""
        values["reason"] = "as confirmed" if values["how"] == "confirmed" else values["reason"]
        return Column(**values)

    def left_aside(self, reason: str) -> Column:
        """The column kept under its own name, as one that is not understood."""
        return self.changed(
            channel="", unit="", reference="", sign=1, how="not_understood", confidence=0.0, reason=reason,
            question="", about="", **_AS_IT_STANDS,
        )  # fmt: skip

    @property
    def unit_in_words(self) -> str:
        """Its unit with what a pressure is counted from."""
        return f"{self.unit} {self.reference}".strip() if self.reference else self.unit


class CurveSaid(Document):
    """What the numbers of a dyno's curve are: of the wheels or the crank, and by which standard they were corrected.

    Empty and None: not known. `corrected_by` is `none` for numbers as they were measured; `rpm_per_m_s` is engine
    speed for road speed, `engine_per_roller` engine turns for a turn of the roller, where the curve stands over those.
    """

    basis: Literal["", "wheel", "crank"] = ""
    corrected_by: Literal["", "none", "std", "sae-j1349", "din-70020", "iso-1585", "jis-d1001"] = ""
    rpm_per_m_s: Annotated[float, Field(gt=0, le=MOST_RPM_PER_M_S)] | None = None
    engine_per_roller: Annotated[float, Field(gt=0, le=1e3)] | None = None

    def remembered(self) -> CurveSaid:
        """What holds for the next sheet of that header too: gear and correction are chosen for each run."""
        return CurveSaid(basis=self.basis)


class Mapping(Document):
    """The columns of one kind of file, known by the fingerprint of its header; `curve` for a dyno's sheets."""

    kind: Literal["yarvic mapping"] = "yarvic mapping"
    version: Literal[1] = 1
    title: Annotated[str, Field(max_length=200)] = ""
    fingerprint: Annotated[str, Field(pattern="^[0-9a-f]{0,64}$")] = ""
    columns: Annotated[tuple[Column, ...], Field(max_length=MOST_COLUMNS)] = ()
    curve: CurveSaid | None = None


@dataclass(frozen=True)
class Facts:
    """What is known of a run beside its file: the barometer, and the fuel whose ratio an air-fuel ratio is counted by."""

    barometer_pa: float | None = None
    stoichiometric_afr: float | None = None


def fingerprint(columns: Sequence[RawColumn]) -> str:
    """What tells one logger's files by their header: names and units in order, whatever their case and signs."""
    names = [(squeezed(c.name) or c.name, squeezed(c.unit) or c.unit) for c in columns]
    return hashlib.sha256(json.dumps(names, ensure_ascii=True).encode("ascii")).hexdigest()
