"""What a job file may hold, by its version: compared when one is opened, and anything else is refused."""

from __future__ import annotations

import sqlite3
from collections.abc import Mapping
from functools import cache
from pathlib import Path

from yarvic.core.errors import JobError, in_plain
from yarvic.core.job.migrations import bring_up_to_date
from yarvic.core.job.schema import script, statements

# More entries than this no list of tables is read for.
MOST_ENTRIES = 200
Shape = frozenset[tuple[str, str]]  # kind of entry (table, index), and the text that made it


@cache
def shapes(version: int) -> Mapping[str, Shape]:
    """Each table and index of a version, by name, as any Yarvic left it: made so, or brought up from an older one."""
    found: dict[str, set[tuple[str, str]]] = {}
    for made_as in range(1, version + 1):
        connection = sqlite3.connect(":memory:", isolation_level=None)
        try:
            connection.executescript(script(made_as))
            bring_up_to_date(connection, made_as, version)
            rows = connection.execute("SELECT name, type, sql FROM sqlite_master WHERE sql IS NOT NULL").fetchall()
        finally:
            connection.close()
        for name, kind, sql in rows:
            found.setdefault(name, set()).add((kind, sql))
    return {name: frozenset(ways) for name, ways in found.items()}


def _made(version: int) -> dict[str, tuple[str, str]]:
    """The entries of a file that was made by a version, as SQLite keeps them."""
    found = statements(version)
    return {name: (text.split()[1].lower(), text.removesuffix(";\n")) for name, text in found.items()}


def check_schema(connection: sqlite3.Connection, version: int, path: Path) -> None:
    """Raise JobError when a file holds other tables, indices, or columns than its version has, or anything that acts by
    itself: a trigger, a view.
    """
    rows = connection.execute(
        "SELECT type, name, tbl_name, sql FROM main.sqlite_master LIMIT ?", (MOST_ENTRIES + 1,)
    ).fetchall()
    wanted, there = _made(version), set()
    for kind, name, table, sql in rows:
        implied = kind == "index" and sql is None and name in _implied(wanted, table)
        if implied:
            continue
        # Most files were made by this version: the ways that lead from older ones are looked up where one was not.
        known = (kind, sql) == wanted.get(name) or (kind, sql) in shapes(version).get(name, ())
        if not known or name in there:
            raise JobError(
                f"this is no job file as Yarvic writes them: it holds a {in_plain(str(kind), 20)} of another form,"
                f" {in_plain(str(name), 60)}",
                concerns=str(path),
                remedy="It may act by itself, so it was not opened. Restore the job from a copy, and ask who changed it.",
            )
        there.add(name)
    missing = sorted(wanted.keys() - there)
    if missing:
        raise JobError(
            f"the job file is damaged: it lacks {', '.join(missing)}",
            concerns=str(path),
            remedy="Restore it from a copy.",
        )


def _implied(wanted: Mapping[str, tuple[str, str]], table: object) -> set[str]:
    """The names of the indices that a table of ours has by itself."""
    return {f"sqlite_autoindex_{table}_{n}" for n in (1, 2)} if table in wanted else set()
