"""A diesel's ratings: within a family another one is a file, across families it is other hardware."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from itertools import pairwise
from typing import Annotated, Literal

import numpy as np
from pydantic import Field, model_validator

from yarvic.core.document import Document
from yarvic.core.physics.power import RAD_PER_S_PER_RPM

# The first two digits of a heavy gearbox's tag times this give its nominal torque in lb-ft.
# Common practice, no published source.
TAG_FACTOR_LB_FT = 100.0


class Rating(Document):
    """A rating: torque limit at the crank over engine speed, its duty, and the hardware it is made for."""

    key: Annotated[str, Field(min_length=1, max_length=20)]
    title: Annotated[str, Field(min_length=1, max_length=60)]
    duty: Literal["continuous", "intermittent", "emergency and leisure"] = "continuous"
    hardware: str = ""
    speed_rpm: Annotated[tuple[float, ...], Field(max_length=200)]
    torque_nm: Annotated[tuple[float, ...], Field(max_length=200)]

    @model_validator(mode="after")
    def _makes_sense(self) -> Rating:
        if len(self.speed_rpm) != len(self.torque_nm) or not self.speed_rpm:
            raise ValueError(f"rating {self.key}: as many torques as speeds")
        if any(b <= a for a, b in pairwise(self.speed_rpm)) or self.speed_rpm[0] <= 0:
            raise ValueError(f"rating {self.key}: engine speeds must rise")
        if any(t <= 0 for t in self.torque_nm):
            raise ValueError(f"rating {self.key}: torque must be above zero")
        return self

    @property
    def peak_torque(self) -> tuple[float, float]:
        """Highest torque in N m and its engine speed."""
        return max(zip(self.torque_nm, self.speed_rpm, strict=True))

    @property
    def peak_power(self) -> tuple[float, float]:
        """Highest power in W and its engine speed; torque is linear between the speeds given, so power is a parabola."""
        points = list(zip(self.speed_rpm, self.torque_nm, strict=True))
        speeds = list(self.speed_rpm)
        for (n0, t0), (n1, t1) in pairwise(points):
            slope = (t1 - t0) / (n1 - n0)
            if slope < 0.0:  # P = n (t0 + slope (n - n0)) turns at the vertex
                vertex = (n0 - t0 / slope) / 2.0
                if n0 < vertex < n1:
                    speeds.append(vertex)
        return max((self.torque_at(n) * n * RAD_PER_S_PER_RPM, n) for n in speeds)

    def torque_at(self, speed_rpm: float) -> float:
        """Torque in N m at an engine speed within the curve."""
        return float(np.interp(speed_rpm, self.speed_rpm, self.torque_nm))


class Family(Document):
    """Engines that share their hardware, and their ratings."""

    key: Annotated[str, Field(min_length=1, max_length=40)]
    title: Annotated[str, Field(min_length=1, max_length=80)]
    hardware: str = ""
    ratings: Annotated[tuple[Rating, ...], Field(max_length=40)]

    @model_validator(mode="after")
    def _makes_sense(self) -> Family:
        keys = [r.key for r in self.ratings]
        if len(keys) != len(set(keys)):
            raise ValueError(f"family {self.key} has two ratings of one key")
        return self


@dataclass(frozen=True)
class Move:
    """A rating and whether the engine may be moved to it; `reasons` say why not, `notes` what to mind."""

    family: Family
    rating: Rating
    here: bool
    reasons: tuple[str, ...]
    notes: tuple[str, ...] = ()

    @property
    def allowed(self) -> bool:
        """Whether nothing speaks against it."""
        return not self.reasons


def moves(
    families: Iterable[Family], family: str, rating: str, *, gearbox_torque_nm: float | None, purpose: str
) -> list[Move]:
    """Every rating, seen from the engine's own: allowed, or refused with each reason.

    `gearbox_torque_nm` is what the gearbox carries at its input; `purpose` decides which duty will do.
    """
    families = tuple(families)
    own_family = next((f for f in families if f.key == family), None)
    own = next((r for r in own_family.ratings if r.key == rating), None) if own_family else None
    found = []
    for each in families:
        for r in each.ratings:
            reasons, notes = [], []
            if each.key != family:
                reasons.append(f"another family: {each.hardware or 'other hardware'}")
            elif own is not None and r.hardware != own.hardware:
                reasons.append(f"other hardware: {r.hardware or 'the plain one'}")
            torque, at = r.peak_torque
            if gearbox_torque_nm is None:
                notes.append("what the gearbox carries is not stated")
            elif torque > gearbox_torque_nm:
                reasons.append(
                    f"gearbox carries {gearbox_torque_nm:.0f} N m, it asks for {torque:.0f} at {at:,.0f} rpm"
                )
            if r.duty == "emergency and leisure" and purpose not in ("race", "rescue"):
                reasons.append(f"its duty is {r.duty}, the vehicle's work is {purpose}")
            elif r.duty == "intermittent" and purpose == "towing":
                notes.append("full load only for part of the time: mind long grades")
            found.append(Move(each, r, each.key == family and r.key == rating, tuple(reasons), tuple(notes)))
    return found


def torque_of_tag(tag: str) -> float:
    """Nominal torque in lb-ft of a heavy gearbox by its tag: the first two digits times 100.

    Common practice, no published source. Raises ValueError for a tag without two digits together.
    """
    for i in range(len(tag) - 1):
        if tag[i].isdigit() and tag[i + 1].isdigit():
            return int(tag[i : i + 2]) * TAG_FACTOR_LB_FT
    raise ValueError(f"{tag!r} has no two digits: write the gearbox's tag as it is stamped")
