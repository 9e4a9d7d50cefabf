"""Documents: what is written as JSON or TOML and validated as a whole when it is read or changed."""

from __future__ import annotations

import json
import math
import re
import tomllib
import types
from collections.abc import Mapping
from functools import cache
from typing import Annotated, Any, Self, TypeVar, Union, get_args, get_origin

from pydantic import BaseModel, ConfigDict, ValidationError, model_validator

from yarvic.core.errors import FormatError, JobError, YarvicError, in_plain
from yarvic.core.reading import understood

# Bounds of any document, far past what a person writes: levels, letters of a text, a whole number's size, parts of a key.
MOST_LEVELS = 32
MOST_LETTERS = 100_000
MOST_WHOLE = 2**63
MOST_KEY_PARTS = 40
# What is no part of a key in TOML: texts, comments. A text that is not closed ends with its line, or with the file, so
# that nothing is gone through twice.
_TEXTS = re.compile(
    r'''
    """(?:[^"\\]|\\.|"(?!""))*+(?:"""|\\?\Z)
    | \x27\x27\x27(?:[^\x27]|\x27(?!\x27\x27))*+(?:\x27\x27\x27|\Z)
    | "(?:[^"\\\n]|\\[^\n])*+(?:"|\\?(?=\n)|\\?\Z)
    | \x27[^\x27\n]*+(?:\x27|(?=\n)|\Z)
    | \#[^\n]*+
    ''',
    re.DOTALL | re.VERBOSE,
)
_ENDS_OF_KEYS = re.compile(r"[\[\]{},=\n]")

Model = TypeVar("Model", bound=BaseModel)


@cache
def _number_fields(model: type[BaseModel]) -> Mapping[str, bool]:
    """The fields that hold a number, or (True) a list of numbers."""
    found = {}
    for name, field in model.model_fields.items():
        kinds = set(_leaves(field.annotation))
        if kinds & {float, int} and not kinds & {str, bool}:
            found[name] = True
    return found


def _leaves(annotation: Any) -> list[Any]:
    """The plain types that an annotation is made of."""
    origin = get_origin(annotation)
    if origin is Annotated:
        return _leaves(get_args(annotation)[0])
    if origin in (Union, types.UnionType, tuple, list, dict):
        # Keys of a table are always texts: what counts is what they stand for.
        inner = get_args(annotation)[1:] if origin is dict else get_args(annotation)
        return [leaf for each in inner for leaf in _leaves(each)]
    return [annotation]


class Document(BaseModel):
    """What was written down: unknown entries, numbers without end, and texts or yes and no where a number belongs are
    refused; it is never changed in place.
    """

    model_config = ConfigDict(extra="forbid", frozen=True, allow_inf_nan=False, str_max_length=MOST_LETTERS)

    @model_validator(mode="before")
    @classmethod
    def _numbers_are_numbers(cls, values: Any) -> Any:
        if isinstance(values, Mapping):
            for name in _number_fields(cls).keys() & values.keys():
                if not _only_numbers(values[name]):
                    raise ValueError(f"{name} must be a number, not a text or yes and no")
        return values

    def entries(self) -> dict[str, Any]:
        """What was entered, by name."""
        return {name: getattr(self, name) for name in type(self).model_fields}

    def changed(self, **values: Any) -> Self:
        """The same with other entries, validated anew. Raises JobError, saying what cannot be."""
        try:
            return type(self).model_validate({**self.entries(), **values})
        except ValidationError as error:
            raise JobError(first_fault(error), remedy="The entry before stays.") from None


def _only_numbers(value: Any) -> bool:
    if isinstance(value, list | tuple):
        return all(_only_numbers(each) for each in value)
    if isinstance(value, Mapping):
        return all(_only_numbers(each) for each in value.values())
    return not isinstance(value, str | bytes | bool)


def parse_toml(text: str, *, source: str, error_type: type[YarvicError] = FormatError) -> dict[str, Any]:
    """A TOML document. Raises an error of this type naming the line.

    Refused as well: one that is nested without end, whose keys have parts without end, a number that is none or has
    no end, a text past any bound.
    """
    for part in _ENDS_OF_KEYS.split(_TEXTS.sub("", text)):
        if part.count(".") >= MOST_KEY_PARTS:
            raise _too_much("a key has too many parts", source, error_type)
    try:
        with understood(source, error_type, "Correct it, or choose another file."):
            found = _parsed(text, source, error_type)
            _believed(found, source, error_type)
            return found
    except RecursionError:
        raise _too_much("is nested too deeply", source, error_type) from None


def _parsed(text: str, source: str, error_type: type[YarvicError]) -> dict[str, Any]:
    try:
        return tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise error_type(
            f"not valid TOML: {in_plain(str(error), 200)}", concerns=source, remedy="Correct the line named."
        ) from None
    except RecursionError:
        raise _too_much("is nested too deeply", source, error_type) from None
    except ValueError:  # what Python refuses to count: thousands of digits, a day that is none
        raise _too_much("holds a number or a date that cannot be", source, error_type) from None


def parse_json(text: str | bytes, *, source: str, error_type: type[YarvicError] = FormatError) -> Any:
    """A JSON document (RFC 8259). Raises an error of this type naming the place.

    Refused as well: a name that is there twice, NaN and infinity, nesting or numbers without end.
    """

    def once(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
        found = dict(pairs)
        if len(found) != len(pairs):
            raise _too_much("holds a name twice", source, error_type)
        return found

    def no_number(word: str) -> Any:
        raise _too_much(f"holds {word}, which is no number", source, error_type)

    with understood(source, error_type, "Restore it from a copy, or choose another file."):
        try:
            text = text if isinstance(text, str) else text.decode("utf-8")
            value = json.loads(text, object_pairs_hook=once, parse_constant=no_number)
        except json.JSONDecodeError as error:
            raise error_type(
                "not valid JSON",
                concerns=f"{source}, line {error.lineno}, column {error.colno}",
                remedy="Restore it from a copy, or choose another file.",
            ) from None
        except RecursionError:
            raise _too_much("is nested too deeply", source, error_type) from None
        except ValueError:
            raise _too_much("holds a number or a letter that cannot be", source, error_type) from None
        return _believed(value, source, error_type)


def _believed(value: Any, source: str, error_type: type[YarvicError], *place: object) -> Any:
    """The same value, where every part of it is within the bounds of a document; `place` leads to it."""
    fault = _fault(value) or ("is nested too deeply" if len(place) > MOST_LEVELS else "")
    if fault:
        where = in_plain(".".join(str(p) for p in place[:8]), 120)
        raise _too_much(fault, f"{source}, {where}" if where else source, error_type)
    if isinstance(value, dict):
        for key, each in value.items():
            _believed(each, source, error_type, *place, key)
    elif isinstance(value, list):
        for number, each in enumerate(value, 1):
            if type(each) is not float or not math.isfinite(each):  # most parts of a long list are fine
                _believed(each, source, error_type, *place, number)
    return value


def _fault(value: Any) -> str:
    """What is wrong with one part by itself; empty when nothing is."""
    if isinstance(value, str) and len(value) > MOST_LETTERS:
        return "holds a text without end"
    if isinstance(value, dict) and any(len(key) > MOST_LETTERS for key in value):
        return "holds a name without end"
    if isinstance(value, float) and not math.isfinite(value):
        return "holds a number without end, or none where one belongs"
    if isinstance(value, int) and abs(value) >= MOST_WHOLE:
        return "holds a number that cannot be"
    return ""


def _too_much(what: str, source: str, error_type: type[YarvicError]) -> YarvicError:
    return error_type(what, concerns=source, remedy="Correct it, or choose another file.")


def validated(
    model: type[Model],
    value: Any,
    *,
    source: str,
    error_type: type[YarvicError] = FormatError,
    remedy: str = "Correct the entry named.",
) -> Model:
    """A document from parsed JSON or TOML. Raises an error of this type naming the entry and what is wrong with it."""
    with understood(source, error_type, remedy):
        try:
            return model.model_validate(value)
        except ValidationError as error:
            raise error_type(first_fault(error), concerns=source, remedy=remedy) from None


def first_fault(error: ValidationError) -> str:
    """The first thing that is wrong with a document, with its place, in a line; nothing of its content."""
    first = error.errors(include_input=False, include_url=False)[0]
    place = in_plain(".".join(str(p) for p in first["loc"]), 120)
    text = first["msg"].removeprefix("Value error, ")
    return in_plain(f"{place}: {text}" if place else text, 400)
