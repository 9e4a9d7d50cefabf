"""Documents of a layout: many small ones, checked strictly and fast."""

from __future__ import annotations

from typing import Annotated

from pydantic import BaseModel, ConfigDict, Field

# The largest memory that is read, and the highest address that a unit can have.
MOST_MEMORY = 16 * 1024 * 1024
MOST_ADDRESS = 0xFFFF_FFFF
MOST_ENTRIES = 100_000
MOST_TEXT = 4000
# No number of a table is larger, in any unit: what is, is a slip of the hand.
MOST_NUMBER = 1e300

Title = Annotated[str, Field(min_length=1, max_length=1000)]
Key = Annotated[str, Field(min_length=1, max_length=1000)]
Words_ = Annotated[str, Field(max_length=MOST_TEXT)]
Address = Annotated[int, Field(ge=0, le=MOST_ADDRESS)]
Number = Annotated[float, Field(ge=-MOST_NUMBER, le=MOST_NUMBER)]


class Described(BaseModel):
    """A part of a layout: a number is a number, unknown entries are refused, nothing is changed in place."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False, strict=True, str_max_length=100_000)
