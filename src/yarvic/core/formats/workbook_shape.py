"""How large a workbook is before its cells are built: what it unpacks to, and how far its cells lie apart.

One cell at the far end of a sheet makes all that lie before it, empty, in whatever reads it.
"""

from __future__ import annotations

import io
import re
import zipfile

from yarvic.core.errors import FormatError
from yarvic.core.formats.unpacking import UNPACKING, check_unpacked

STEP = 1 << 20
FREE_CELLS, MOST_EMPTY = 1_000_000, 50  # cells that may be made; past that, so many times those that hold something
# The place of a row or a cell: an attribute of SpreadsheetML (ISO/IEC 29500-1, 18.3.1.4 and 18.3.1.73).
_PLACE = re.compile(rb'\sr\s*=\s*["\']\s*([A-Za-z]{0,4})([0-9]{1,8})\s*["\']')
_LONGEST = 40


def check_shape(data: bytes, source: str) -> None:
    """Raises FormatError for a workbook that is far larger unpacked or laid out than what it holds."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            members = archive.infolist()
            check_unpacked(members, source)
            made = held = 0
            for member in members:
                if "sheet" in member.filename.lower() and member.filename.lower().endswith(".xml"):
                    rows, columns, places = _extent(archive, member)
                    made, held = made + rows * max(columns, 1), held + places
                    if made > max(FREE_CELLS, MOST_EMPTY * held):
                        raise FormatError(
                            f"has cells in row {rows:,} or column {columns:,}, far from the others",
                            concerns=f"{source}, {member.filename.rpartition('/')[2]}",
                            remedy="Delete what stands far from the numbers, or export it as CSV.",
                        )
    except UNPACKING as error:
        raise FormatError(
            "cannot be read as a workbook",
            concerns=source,
            remedy="Save it again as XLSX or CSV.",
            details=type(error).__name__,
        ) from None


def _extent(archive: zipfile.ZipFile, member: zipfile.ZipInfo) -> tuple[int, int, int]:
    """The last row and column of a sheet, and how many places it names."""
    rows, columns, count = 0, 0, 0
    with archive.open(member) as file:
        kept = b""
        while block := file.read(STEP):
            text = kept + block
            places = _PLACE.findall(text)
            count += len(places)
            rows = max([rows, *(int(number) for _, number in places)])
            columns = max([columns, *map(_column, {letters for letters, _ in places})])
            kept = text[-_LONGEST:]
    return rows, columns, count


def _column(letters: bytes) -> int:
    """The number of a column by its letters, A is 1; 0 for none."""
    number = 0
    for letter in letters.upper():
        number = 26 * number + letter - 64
    return number
