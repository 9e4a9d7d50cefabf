"""The text of a description file as blocks: what stands between /begin and /end, with its words and its place.

Grammar from memory of ASAM MCD-2 MC 1.6 and 1.7: words, numbers, texts in quotes, comments of both kinds, blocks, and
other files that are included. Blocks that nobody here reads (IF_DATA, A2ML) are passed over.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

from yarvic.core.errors import FormatError, name_of
from yarvic.core.reading import read_bounded

MOST_BYTES = 256 * 1024 * 1024
MOST_INCLUDES = 200
MOST_DEPTH = 40
# What is looked for in a whole file: texts and comments, for nothing in them counts, and what makes structure.
# Comments may stand between a word that makes structure and its keyword.
_COMMENT = r"/\*.*?(?:\*/|\Z)|//[^\n]*"
_GAP = rf"(?:\s|{_COMMENT})+"
_STRUCTURE = re.compile(
    rf'"(?:[^"\\]|\\.|"")*"?|{_COMMENT}|/begin{_GAP}(?P<begin>[\w.]+)|/end{_GAP}(?P<end>[\w.]+)'
    r'|/include\s+(?:"(?P<quoted>[^"\n]*)"|(?P<bare>[^\s"]+))',
    re.DOTALL,
)
_WORDS = re.compile(rf'"(?:[^"\\]|\\.|"")*"?|{_COMMENT}|(?:[^\s"/]|/(?![*/]))+', re.DOTALL)
# Blocks in which anything may stand; they end with their own name.
FREE = frozenset({"A2ML", "IF_DATA"})


@dataclass(slots=True)
class Block:
    """A block: its keyword, what stands in it, and the blocks within; `given` are its words where another made them."""

    keyword: str
    start: int
    source: Text
    end: int = 0
    blocks: list[Block] = field(default_factory=list)
    inner: list[tuple[int, int, Block | None]] = field(default_factory=list)
    given: tuple[str, ...] | None = None

    def words(self) -> list[str]:
        """Its own words, without those of the blocks within; a text keeps its opening quote."""
        if self.given is not None:
            return list(self.given)
        text, at = self.source.text, self.start
        found: list[str] = []
        for start, end, included in (*self.inner, (self.end, self.end, None)):
            for word in _WORDS.findall(text, at, start):
                if word[0] == '"':
                    found.append('"' + _unquoted(word))
                elif word[:2] not in ("/*", "//"):
                    found.append(word)
            if included is not None:
                found += included.words()
            at = end
        return found

    @property
    def line(self) -> int:
        """The line on which it begins."""
        return self.source.line(self.start)

    def of(self, keyword: str) -> Iterator[Block]:
        """The blocks within of a keyword."""
        return (b for b in self.blocks if b.keyword == keyword)


def _unquoted(word: str) -> str:
    inner = word[1:-1] if len(word) > 1 and word[-1] == '"' else word[1:]
    if '""' in inner:
        inner = inner.replace('""', '"')
    return re.sub(r"\\(.)", r"\1", inner, flags=re.DOTALL) if "\\" in inner else inner


class Text:
    """The text of one file, and where its lines begin."""

    def __init__(self, name: str, text: str) -> None:
        self.name, self.text = name, text
        self._lines: list[int] | None = None

    def line(self, at: int) -> int:
        """The line of a place."""
        if self._lines is None:
            self._lines = [0, *(m.end() for m in re.finditer("\n", self.text))]
        return bisect_right(self._lines, at)

    def wrong(self, at: int, what: str, remedy: str = "Export the description again.") -> FormatError:
        """An error that names the place."""
        return FormatError(what, concerns=f"{self.name}, line {self.line(at):,}", remedy=remedy)


def decoded(data: bytes) -> str:
    """The text of a file in whatever encoding: marked, UTF-8, or the old one of western letters."""
    for mark, name in ((b"\xff\xfe", "utf-16"), (b"\xfe\xff", "utf-16"), (b"\xef\xbb\xbf", "utf-8-sig")):
        if data.startswith(mark):
            return data.decode(name, errors="replace")
    try:
        return data.decode("utf-8")
    except UnicodeDecodeError:
        return data.decode("cp1252", errors="replace")


def _end_of(text: str, keyword: str, at: int) -> int | None:
    """The place behind the end of a block in which anything may stand, texts that speak of such an end included."""
    plain = re.compile(rf"/end{_GAP}{keyword}\b", re.DOTALL)
    first = plain.search(text, at)
    if first is None or '"' not in text[at : first.start()]:
        return first.end() if first is not None else None
    for found in _STRUCTURE.finditer(text, at):
        if found["end"] == keyword:
            return found.end()
        if found.start() < first.start() < found.end() and "\n" in found.group():
            break  # a quote without its other half: texts in which such an end stands are of one line
    return first.end()


class _Builder:
    """Builds the tree of blocks over a file and those that it includes."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        self.included = 0
        self.root: Block | None = None
        self.open: list[Block] = []

    def read(self, source: Text, chain: tuple[str, ...]) -> None:
        text, at = source.text, 0
        depth = len(self.open)
        if self.root is None:
            self.root = Block("", 0, source)
            self.open.append(self.root)
            depth = 1
        while True:
            found = _STRUCTURE.search(text, at)
            if found is None:
                break
            at = found.end()
            if found["begin"] is not None:
                at = self._begin(source, found, at)
            elif found["end"] is not None:
                self._end(source, found, depth)
            elif found["quoted"] is not None or found["bare"] is not None:
                self._include(source, found, chain)
        if len(self.open) > depth:
            block = self.open[-1]
            raise block.source.wrong(block.start, f"the block {block.keyword} has no end: the file was cut off")

    def _begin(self, source: Text, found: re.Match[str], at: int) -> int:
        keyword = found["begin"]
        if keyword in FREE:
            end = _end_of(source.text, keyword, at)
            if end is None:
                raise source.wrong(found.start(), f"the block {keyword} has no end: the file was cut off")
            self._inside(found.start(), end)
            return end
        if len(self.open) > MOST_DEPTH:
            raise source.wrong(found.start(), "blocks lie in each other without end")
        block = Block(keyword, at, source)
        block.inner.append(
            (found.start(), at, None)
        )  # kept until its end is known: where it is cut out of the one around
        self.open[-1].blocks.append(block)
        self.open.append(block)
        return at

    def _end(self, source: Text, found: re.Match[str], depth: int) -> None:
        block = self.open[-1]
        if len(self.open) <= depth or block.keyword != found["end"] or block.source is not source:
            raise source.wrong(found.start(), f"/end {found['end']} where {block.keyword or 'nothing'} is open")
        self.open.pop()
        begin = block.inner.pop(0)[0]
        block.end = found.start()
        self._inside(begin, found.end())

    def _inside(self, start: int, end: int, included: Block | None = None) -> None:
        """Cut a range out of the words of the block that is open; what another file has for it stands in its place."""
        self.open[-1].inner.append((start, end, included))

    def _include(self, source: Text, found: re.Match[str], chain: tuple[str, ...]) -> None:
        name = (found["quoted"] if found["quoted"] is not None else found["bare"]).replace("\\", "/")
        path = (self.folder / name).resolve()
        if not path.is_relative_to(self.folder.resolve()):
            raise source.wrong(
                found.start(),
                f"includes {name!r}, which lies elsewhere",
                "Put it beside this file, and name it without a path.",
            )
        self.included += 1
        if str(path) in chain or len(chain) > MOST_DEPTH or self.included > MOST_INCLUDES:
            raise source.wrong(
                found.start(), f"includes {name!r} without end", "Take the line out of one of the files."
            )
        inner = Text(name_of(path), decoded(read_bounded(path, MOST_BYTES)))
        # Its blocks belong to the block that includes it, and so do its words.
        own = Block("", 0, inner, len(inner.text), self.open[-1].blocks)
        self._inside(found.start(), found.end(), own)
        self.open.append(own)
        self.read(inner, (*chain, str(path)))
        self.open.pop()


def blocks_of(path: Path, data: bytes) -> Block:
    """The blocks of a description file. Raises FormatError naming file and line for what is none."""
    builder = _Builder(path.parent)
    builder.read(Text(name_of(path), decoded(data)), (str(path.resolve()),))
    assert builder.root is not None
    builder.root.end = len(builder.root.source.text)
    return builder.root
