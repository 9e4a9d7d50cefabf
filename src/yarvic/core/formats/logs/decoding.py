"""The letters of a text file: which encoding it is in, by its mark, by its bytes, and by what its words then say."""

from __future__ import annotations

from collections.abc import Iterable

from yarvic.core.errors import FormatError, UnitError
from yarvic.core.evidence.dictionary import dictionary, read_header
from yarvic.core.units import read_unit

_MARKS = (
    (b"\xff\xfe\x00\x00", "utf-32"), (b"\x00\x00\xfe\xff", "utf-32"), (b"\xef\xbb\xbf", "utf-8-sig"),
    (b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"),
)  # fmt: skip
# Encodings of one byte or two a letter that loggers were written for; where nothing tells, the first is taken.
_OLDER = ("cp1252", "cp1250", "cp1251", "mac_roman", "cp850", "cp437", "cp932", "gb18030", "latin-1")
_SPLITS = ",;\t|"
MOST_LINES_LOOKED_AT = 40


def encoding_of(head: bytes, source: str, *, whole: bool) -> str:
    """The name of the encoding of a file by its first bytes. Raises FormatError for what is no text.

    `whole` says that these are all its bytes: a letter cut in two at the end is then no letter.
    """
    for mark, name in _MARKS:
        if head.startswith(mark):
            return name
    if b"\0" in head:
        return _without_mark(head, source)
    try:
        head.decode("utf-8")
        return "utf-8"
    except UnicodeDecodeError as error:
        # A letter cut in two at the end of the head is no proof of another encoding.
        if not whole and error.start >= len(head) - 4:
            return "utf-8"
    if sum(b < 9 or 13 < b < 32 for b in head) > len(head) // 100:
        raise no_text(source)
    lines = [line for line in head.splitlines()[:MOST_LINES_LOOKED_AT] if any(b > 127 for b in line)]
    best, most = _OLDER[0], -1
    for name in _OLDER:
        try:
            words = [line.decode(name) for line in lines]
        except UnicodeDecodeError:
            continue
        score = _understood(words)
        if score > most:
            best, most = name, score
    return best


def no_text(source: str) -> FormatError:
    """The error for a file that holds no text."""
    return FormatError(
        "is not a text file", concerns=source, remedy="Export the log as CSV from the program that wrote it."
    )


def _without_mark(head: bytes, source: str) -> str:
    """UTF-16 that was written without its mark shows in its zeros; any other zeros are no text."""
    even, odd = head[0::2].count(0), head[1::2].count(0)
    half = max(len(head) // 2, 1)
    for zeros, others, name in ((odd, even, "utf-16-le"), (even, odd, "utf-16-be")):
        if zeros > 0.6 * half and others < 0.02 * half:
            return name
    raise no_text(source)


def _understood(lines: Iterable[str]) -> int:
    """How much of some lines of text is understood as names and units; letters that no logger writes count against it."""
    score = 0
    words = dictionary()
    for line in lines:
        sign = max(_SPLITS, key=line.count)
        for field in line.split(sign)[:400]:
            text = field.strip().strip('"')
            if not text or text.isascii():
                continue
            header = read_header(text, "", words)
            score += 2 * (header.named is not None)
            for unit_words in (header.unit, text):
                try:
                    read_unit(unit_words)
                    score += 3
                    break
                except UnitError:
                    continue
            score -= sum(not (c.isalnum() or c.isspace() or c in "°²³µλº%()[]{}/.,;:_-+*#'\"&<>|=·") for c in text)
    return score
