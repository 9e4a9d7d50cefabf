"""What gives way first: every limit of the drive against what a target asks of it."""

from __future__ import annotations

from collections.abc import Collection, Iterable
from dataclasses import dataclass

from yarvic.core.checks.components import OF_THE_DRIVE, ComponentLimit
from yarvic.core.checks.finding import PASS, STOP, WATCH
from yarvic.core.errors import YarvicError
from yarvic.core.plan.plan import Band, Target

# A target that misses its limit by no more than this share meets it: what solving and converting may lose.
ROUNDING = 2e-6


@dataclass(frozen=True)
class Demand:
    """What a target asks of one limit, W or N m on the limit's basis; `share` of what it carries in the band."""

    limit: ComponentLimit
    asked: float
    carries: float

    @property
    def share(self) -> float:
        """Asked over carried."""
        return self.asked / self.carries if self.carries > 0.0 else float("inf")

    @property
    def severity(self) -> str:
        """Holds what is carried; watch up to the end of stretch, whatever the margin; stop past it."""
        if self.clears:
            return PASS
        return WATCH if self.asked <= self.limit.canonical("stretch") * (1.0 + ROUNDING) else STOP

    @property
    def clears(self) -> bool:
        """Whether the limit carries it."""
        return self.asked <= self.carries * (1.0 + ROUNDING)


def of_the_drive(limits: Iterable[ComponentLimit]) -> list[ComponentLimit]:
    """The limits that power and torque are held against."""
    return [limit for limit in limits if limit.key in OF_THE_DRIVE]


def asked_of(limit: ComponentLimit, target: Target, loss: float | None) -> float:
    """What a target asks of a limit, W or N m, on the limit's basis.

    Raises YarvicError when one stands at the wheels and the other at the crank, and the loss between is not stated.
    """
    power, torque = target.demands()
    asked = power if limit.limited.quantity == "power" else torque
    if limit.basis == target.basis:
        return asked
    if loss is None:
        raise YarvicError(
            f"{limit.component} is limited at the {limit.basis}, the target is at the {target.basis}",
            concerns=limit.component,
            remedy="State the drivetrain's loss on the job sheet, or measure it by a coast-down.",
        )
    return asked / (1.0 - loss) if limit.basis == "crank" else asked * (1.0 - loss)


def demands(
    limits: Iterable[ComponentLimit],
    target: Target,
    *,
    parts: Collection[str] = (),
    band: Band = "safe",
    margin: float = 0.0,
    loss: float | None = None,
) -> list[Demand]:
    """Every limit of the drive with these parts fitted, the most loaded first: the weakest link and those after it.

    `margin` is kept: a limit carries its band's end over 1 + margin.
    """
    found = [
        Demand(moved, asked_of(moved, target, loss), moved.canonical(band) / (1.0 + margin))
        for moved in (limit.with_parts(parts) for limit in of_the_drive(limits))
    ]
    return sorted(found, key=lambda d: -d.share)
