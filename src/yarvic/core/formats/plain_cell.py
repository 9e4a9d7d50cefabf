"""Texts in cells of CSV and workbooks: no program that opens the file takes one for a formula, and none is changed by it.

The usual rule (OWASP, "CSV Injection", from memory): a text that begins as a formula does has an apostrophe before it.
Numbers are no texts, and stand as they are.
"""

from __future__ import annotations

_BEGINS = ("=", "+", "-", "@", "\t", "\r", "\n")
_MARK = "'"


def plain_cell(text: str) -> str:
    """A text as it is written into a cell."""
    return _MARK + text if text.startswith(_BEGINS) or _is_marked(text) else text


def from_cell(text: str) -> str:
    """The text that a cell stands for: exactly what was written by `plain_cell`."""
    return text[1:] if _is_marked(text) else text


def _is_marked(text: str) -> bool:
    return text.startswith(_MARK) and text[1:].startswith((*_BEGINS, _MARK))
