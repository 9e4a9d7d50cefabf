"""What a simulated unit is and how it stands between two starts: a small file beside its memory."""

from __future__ import annotations

import os
from pathlib import Path
from typing import Annotated, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError

from yarvic.core.errors import LinkError

NAME = "unit.json"


class UnitFacts(BaseModel):
    """`misbehaves`: what is wrong with the unit. `no_write` acknowledges and does not write, `false_read` gives back what
    was sent, whatever it holds.
    """

    model_config = ConfigDict(extra="forbid", frozen=True)

    name: str = "Simulated unit"
    serial: str = "YR-SIM-01"
    vehicle: str = "YARVIC00000000001"
    lock: Literal["open", "once", "bench"] = "open"
    opened: bool = False
    on_bench: bool = False
    engine_runs: bool = False
    codes: tuple[str, ...] = ()
    maintained: bool = True
    charge: Annotated[float, Field(ge=0.0, le=1.0)] = 0.9
    extra_a: float = 0.0
    dip_v: float = 0.0
    sector: Annotated[int, Field(ge=16)] = 4096
    block: Annotated[int, Field(ge=1, le=60_000)] = 4096  # bytes in one block of a transfer
    erase_s: Annotated[float, Field(ge=0.0)] = 0.03  # a sector
    write_s_kib: Annotated[float, Field(ge=0.0)] = 0.002
    speed: Annotated[float, Field(gt=0.0)] = 1.0
    misbehaves: frozenset[Literal["no_write", "false_read"]] = frozenset()

    def changed(self, **values: object) -> UnitFacts:
        """The same with other values. Raises LinkError for one that cannot be."""
        try:
            return UnitFacts.model_validate({**self.model_dump(), **values})
        except ValidationError as error:
            raise LinkError("the unit cannot be so", remedy="Choose other values.", details=str(error)) from error


def read_facts(folder: Path) -> UnitFacts:
    """Raises LinkError for a file that is none."""
    try:
        return UnitFacts.model_validate_json((folder / NAME).read_bytes())
    except (OSError, ValidationError) as error:
        raise LinkError(
            "the simulated unit has lost what it is", concerns=str(folder / NAME),
            remedy="Start it anew.", details=str(error),
        ) from error  # fmt: skip


def write_facts(folder: Path, facts: UnitFacts) -> None:
    """All or nothing."""
    new = folder / f"{NAME}.{os.getpid()}.new"
    new.write_text(facts.model_dump_json(indent=1), "utf-8")
    new.replace(folder / NAME)
