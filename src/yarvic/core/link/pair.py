"""Writing an engine's unit and the gearbox's that belongs to it: both or neither.

Both are read, kept and unlocked before either is touched, and both journals lie on the disk: whatever breaks off, the next
start finds a pair that is not whole. The gearbox comes first and goes back last: one that is set for more torque than the
engine gives does no harm, the other way round it does.
"""

from __future__ import annotations

import os
from collections.abc import Container
from dataclasses import dataclass
from typing import Any

from yarvic.core.errors import Cancelled, LinkError
from yarvic.core.link.journal import Journal
from yarvic.core.link.sequence import Flashing, Written


@dataclass(frozen=True)
class Pair:
    """The conversations with a vehicle's units."""

    engine: Flashing
    gearbox: Flashing | None = None  # where the vehicle has one

    def of(self, journal: Journal) -> Flashing:
        """The one that a journal is of. Raises LinkError where it is of a gearbox's unit and there is none."""
        if journal.begun.half != "gearbox":
            return self.engine
        return self._gearbox()

    def _gearbox(self) -> Flashing:
        if self.gearbox is None:
            raise LinkError("the gearbox's unit cannot be reached", remedy="Connect it on the same bus.")
        return self.gearbox

    def both(self) -> list[Flashing]:
        """The conversations that there are."""
        return [self.engine, *([self.gearbox] if self.gearbox is not None else [])]


def write_pair(
    pair: Pair,
    engine: bytes,
    gearbox: bytes,
    *,
    everything: bool = False,
    made_here: Container[str] = (),
    **about: Any,
) -> tuple[Written | None, Written | None]:
    """Bring an image into each unit; gives what was done to the engine's and to the gearbox's, None where one held it
    already.

    Raises as `Flashing.write`; when it was cancelled, both hold what they held before.
    """
    box = pair._gearbox()
    halves = {"pair": os.urandom(8).hex(), "everything": everything, "made_here": made_here, **about}
    second = pair.engine.prepare(engine, half="engine", **halves)
    first = box.prepare(gearbox, half="gearbox", **halves)
    if second is None:
        return None, box.carry_out(first, box.begin(first)) if first is not None else None
    if first is None:
        return pair.engine.carry_out(second, pair.engine.begin(second)), None
    gearbox_journal = box.begin(first)
    try:
        engine_journal = pair.engine.begin(second)
    except BaseException:
        gearbox_journal.add("end", "restored")  # untouched
        gearbox_journal.close()
        raise
    try:
        done = box.carry_out(first, gearbox_journal)
    except Cancelled:
        engine_journal.add("end", "restored")  # untouched
        engine_journal.close()
        raise
    try:
        return pair.engine.carry_out(second, engine_journal), done
    except Cancelled:
        box.cancelled = lambda: False
        box.restore(Journal.read(gearbox_journal.path))
        raise


def finish_pair(pair: Pair, journals: list[Journal], way: str) -> dict[str, Written]:
    """End the write of a pair that was broken off, both the same way: `go on` or `restore`. Raises LinkError,
    BrokenOffError; then it may be tried again.
    """
    onwards = way == "go on"
    order = sorted(journals, key=lambda j: j.begun.half, reverse=onwards)  # onwards the gearbox first, back last
    found: dict[str, Written] = {}
    for journal in order:
        flashing = pair.of(journal)
        found[journal.begun.half] = flashing.go_on(journal) if onwards else flashing.restore(journal)
    return found
