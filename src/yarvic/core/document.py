"""Documents: what is written as JSON or TOML and validated as a whole when it is read or changed."""

from __future__ import annotations

import tomllib
from typing import Any, Self

from pydantic import BaseModel, ConfigDict, ValidationError

from yarvic.core.errors import FormatError, JobError, YarvicError


class Document(BaseModel):
    """A part of a job: unknown entries and numbers without end are refused; it is never changed in place."""

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False)

    def entries(self) -> dict[str, Any]:
        """What was entered, by name."""
        return {name: getattr(self, name) for name in type(self).model_fields}

    def changed(self, **values: Any) -> Self:
        """The same with other entries, validated anew. Raises JobError, saying what cannot be."""
        try:
            return type(self).model_validate({**self.entries(), **values})
        except ValidationError as error:
            raise JobError(first_fault(error), remedy="The entry before stays.") from None


def parse_toml(text: str, *, source: str, error_type: type[YarvicError] = FormatError) -> dict[str, Any]:
    """A TOML document. Raises an error of this type naming the line; for one that is nested without end too."""
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise error_type(f"not valid TOML: {error}", concerns=source, remedy="Correct the line named.") from None
    except RecursionError:
        raise error_type("is nested too deeply", concerns=source, remedy="Choose another file.") from None


def first_fault(error: ValidationError) -> str:
    """The first thing that is wrong with a document, with its place, in a line."""
    first = error.errors()[0]
    place = ".".join(str(p) for p in first["loc"])
    text = first["msg"].removeprefix("Value error, ")
    return f"{place}: {text}" if place else text
