"""Reading older job files. One written by an older Yarvic is brought up to date when it is opened for writing.

Opened read only it stays as it is: what the newer version would find is laid over it for this connection alone.
"""

from __future__ import annotations

import json
import sqlite3
from typing import Any

from yarvic.core.plan.stations import station_keys

VERSION = 2
# What the stations of version 1 are called now.
_STATIONS_1 = {"exhaust_pipe": "aftertreatment"}


def bring_up_to_date(connection: sqlite3.Connection, version: int) -> None:
    """Change the file to the present version, in one transaction. Raises sqlite3.Error; then nothing is changed."""
    connection.execute("BEGIN IMMEDIATE")
    try:
        if version < 2:
            connection.execute("ALTER TABLE build ADD COLUMN event TEXT NOT NULL DEFAULT '{}'")
            for document in connection.execute("SELECT document FROM sheet").fetchall():
                connection.execute("UPDATE sheet SET document = ?", (sheet_of_1(document[0]),))
        connection.execute(f"PRAGMA user_version={VERSION}")
        connection.execute("COMMIT")
    except BaseException:
        connection.execute("ROLLBACK")
        raise


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


def sheet_of_1(document: str) -> str:
    """A job sheet of version 1 as one of version 2; text that is no such sheet is given back as it is."""
    try:
        sheet = json.loads(document)
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
    except (ValueError, KeyError, TypeError, AttributeError):
        return document


def _station(key: Any) -> str:
    named = _STATIONS_1.get(key, key)
    return named if named in station_keys() else str(key)
