"""Reading older job files. One written by an older Yarvic is brought up to date when it is opened for writing.

Opened read only it stays as it is: what the newer version would find is laid over it for this connection alone.
"""

from __future__ import annotations

import json
import sqlite3
from datetime import UTC, datetime
from typing import Any

from yarvic.core.document import parse_json
from yarvic.core.errors import FormatError
from yarvic.core.job.history import seal
from yarvic.core.job.schema import VERSION, statements
from yarvic.core.plan.stations import station_keys

# The channel before a throttle was called by the name of the one behind it up to version 2: new key, old key.
_AIRBOX = ("airbox_pressure", "manifold_pressure")
# What the stations of version 1 are called now.
_STATIONS_1 = {"exhaust_pipe": "aftertreatment"}


def bring_up_to_date(connection: sqlite3.Connection, version: int, to: int = VERSION) -> None:
    """Change the file to a later version, in one transaction. Raises sqlite3.Error; then nothing is changed."""
    # A table that others refer to is put in place of the one before it: only then do references hold again.
    connection.execute("PRAGMA foreign_keys=OFF")
    connection.execute("BEGIN IMMEDIATE")
    try:
        for step in range(version + 1, to + 1):
            _STEPS[step](connection)
        if version < 4 and to >= 4:
            seal(connection, datetime.now(UTC).isoformat(timespec="seconds"), version)
        connection.execute(f"PRAGMA user_version={to:d}")
        connection.execute("COMMIT")
    except BaseException:
        if connection.in_transaction:
            connection.execute("ROLLBACK")
        raise
    finally:
        connection.execute("PRAGMA foreign_keys=ON")


def _to_2(connection: sqlite3.Connection) -> None:
    connection.execute("ALTER TABLE build ADD COLUMN event TEXT NOT NULL DEFAULT '{}'")
    for document in connection.execute("SELECT document FROM sheet").fetchall():
        connection.execute("UPDATE sheet SET document = ?", (sheet_of_1(document[0]),))


def _to_3(connection: sqlite3.Connection) -> None:
    connection.execute("ALTER TABLE waiver ADD COLUMN finding TEXT NOT NULL DEFAULT ''")
    connection.execute("UPDATE evidence_column SET key = ? WHERE key = ?", _AIRBOX)
    _edits_of_their_own(connection, "draft", "draft_edit")
    connection.execute("UPDATE draft SET edits = '[]'")


def _to_4(connection: sqlite3.Connection) -> None:
    for column in ("manifest TEXT NOT NULL DEFAULT ''", "signature TEXT NOT NULL DEFAULT ''"):
        connection.execute(f"ALTER TABLE release ADD COLUMN {column}")
    for column in ("about TEXT NOT NULL DEFAULT '[]'", "hash TEXT NOT NULL DEFAULT ''"):
        connection.execute(f"ALTER TABLE journal ADD COLUMN {column}")


def _to_5(connection: sqlite3.Connection) -> None:
    made = statements(5)
    columns = "id, title, revision_id, build, time, source, conditions"
    connection.execute(made["evidence"].replace("TABLE evidence", "TABLE evidence_5", 1))
    connection.execute(f"INSERT INTO evidence_5 SELECT {columns} FROM evidence ORDER BY rowid")  # noqa: S608
    connection.execute("DROP TABLE evidence")
    connection.execute("ALTER TABLE evidence_5 RENAME TO evidence")
    for name in ("evidence_by_revision", "evidence_note", "evidence_notes"):
        connection.execute(made[name])


def _to_6(connection: sqlite3.Connection) -> None:
    connection.execute(statements(6)["carried"])


def _to_7(connection: sqlite3.Connection) -> None:
    made = statements(7)
    for name in ("draft", "draft_edit"):
        connection.execute(f"ALTER TABLE {name} RENAME TO {name}_6")
    for name in ("draft", "draft_edit", "merge", "tag", "expectation"):
        connection.execute(made[name])
    connection.execute(f"INSERT INTO draft {_DRAFT_OF_6.format('draft_6')}")
    connection.execute(f"INSERT INTO draft_edit {_EDITS_OF_6.format('draft_edit_6')}")
    for name in ("draft", "draft_edit"):
        connection.execute(f"DROP TABLE {name}_6")


def _to_8(connection: sqlite3.Connection) -> None:
    connection.execute(statements(8)["pairing"])


def _to_9(connection: sqlite3.Connection) -> None:
    connection.execute(statements(9)["arrangement"])


# The one draft of older files, and its edits, as one of several; a step that was not numbered is the first.
_DRAFT_OF_6 = "SELECT id, '' AS name, parent_id, NULL AS merged_id, time, 1 AS touched FROM {}"
_EDITS_OF_6 = "SELECT 1 AS draft_id, position, coalesce(step, 0) AS step, edit FROM {}"
_STEPS = {2: _to_2, 3: _to_3, 4: _to_4, 5: _to_5, 6: _to_6, 7: _to_7, 8: _to_8, 9: _to_9}


def lay_over(connection: sqlite3.Connection, version: int) -> None:
    """Show an older file as the present version would have it, without touching it."""
    if version < 2:
        connection.execute(
            "CREATE TEMP VIEW build AS SELECT number, title, time, fitted, '{}' AS event FROM main.build"
        )
        rows = connection.execute("SELECT id, document, layout FROM main.sheet").fetchall()
        connection.execute("CREATE TEMP TABLE sheet (id INTEGER, document TEXT, layout TEXT)")
        for number, document, layout in rows:
            connection.execute("INSERT INTO temp.sheet VALUES (?, ?, ?)", (number, sheet_of_1(document), layout))
    if version < 3:
        connection.execute("CREATE TEMP VIEW waiver AS SELECT *, '' AS finding FROM main.waiver")
        # A view takes no parameters: the two names stand in it as _AIRBOX has them.
        connection.execute(
            "CREATE TEMP VIEW evidence_column AS SELECT evidence_id, position, CASE key WHEN 'manifold_pressure'"
            " THEN 'airbox_pressure' ELSE key END AS key, title, quantity, unit, time_position, count, crc32, data"
            " FROM main.evidence_column"
        )
        _edits_of_their_own(connection, "main.draft", "draft_edit_3", "TEMP")
    if version < 4:
        connection.execute("CREATE TEMP VIEW release AS SELECT *, '' AS manifest, '' AS signature FROM main.release")
        connection.execute("CREATE TEMP VIEW journal AS SELECT *, '[]' AS about, '' AS hash FROM main.journal")
    if version < 5:
        connection.execute(
            "CREATE TEMP TABLE evidence_note (id INTEGER, evidence_id TEXT, kind TEXT, document TEXT, time TEXT)"
        )
    if version < 6:
        connection.execute(
            "CREATE TEMP TABLE carried (id INTEGER, revision_id INTEGER, time TEXT, kind TEXT, name TEXT, document TEXT)"
        )
    if version < 7:
        edits = "temp.draft_edit_3" if version < 3 else "main.draft_edit"
        connection.execute(f"CREATE TEMP VIEW draft AS {_DRAFT_OF_6.format('main.draft')}")
        connection.execute(f"CREATE TEMP VIEW draft_edit AS {_EDITS_OF_6.format(edits)}")
        for name in ("merge", "tag", "expectation"):
            connection.execute(statements(7)[name].replace("CREATE TABLE", "CREATE TEMP TABLE"))
    if version < 8:
        connection.execute(statements(8)["pairing"].replace("CREATE TABLE", "CREATE TEMP TABLE"))
    if version < 9:
        connection.execute(statements(9)["arrangement"].replace("CREATE TABLE", "CREATE TEMP TABLE"))


def _edits_of_their_own(connection: sqlite3.Connection, source: str, target: str, temp: str = "") -> None:
    """The edits of a draft as rows, each a step of its own, as they could be undone before."""
    connection.execute(
        f"CREATE {temp} TABLE {target} (position INTEGER PRIMARY KEY, step INTEGER, edit TEXT NOT NULL)"
    )
    for (text,) in connection.execute(f"SELECT edits FROM {source}").fetchall():  # noqa: S608 - our own names
        try:
            edits = list(parse_json(text, source="draft"))
        except (FormatError, ValueError, TypeError):
            # Nobody can read it: it stays in one row, and is said to be damaged when the draft is looked at.
            edits = [text]
        rows = [(n, n, json.dumps(each)) for n, each in enumerate(edits)]
        connection.executemany(f"INSERT INTO {target} VALUES (?, ?, ?)", rows)  # noqa: S608 - our own names


def sheet_of_1(document: str) -> str:
    """A job sheet of version 1 as one of version 2; text that is no such sheet is given back as it is."""
    try:
        sheet = parse_json(document, source="job sheet")
        vehicle, old_stations = dict(sheet["vehicle"]), list(sheet.pop("stations"))
        diesel = vehicle.get("ignition") == "compression"
        boosted, rail = vehicle.pop("boost_controlled"), vehicle.pop("rail", True)
        vehicle["induction"] = ("vane turbo" if diesel else "turbo") if boosted else "natural"
        vehicle["injection"] = ("common rail" if diesel else "direct") if rail else "port"
        # What version 1 took for granted where it said nothing.
        vehicle.setdefault("knock_control", True)
        sheet["vehicle"] = vehicle
        sheet["fitted"] = {_station(s["key"]): s["fitted"] for s in old_stations}
        by_limit = {key: _station(s["key"]) for s in old_stations for key in s.get("limit_keys", ())}
        sheet["limits"] = [{**limit, "station": by_limit.get(limit["key"], "")} for limit in sheet["limits"]]
        return json.dumps(sheet)
    except (FormatError, ValueError, KeyError, TypeError, AttributeError):
        return document


def _station(key: Any) -> str:
    named = _STATIONS_1.get(key, key)
    return named if named in station_keys() else str(key)
