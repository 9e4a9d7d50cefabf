"""Where a unit stands whose write has not ended, and what can be done next: judged by the unit, not by the journal alone."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

from yarvic.core.errors import LinkError, YarvicError
from yarvic.core.link.identifiers import Did
from yarvic.core.link.journal import Journal
from yarvic.core.link.pair import Pair
from yarvic.core.link.sectors import PASSING
from yarvic.core.link.sequence import Flashing

Next = Literal["go on", "restore", "bench", "that unit"]


@dataclass(frozen=True)
class Standing:
    """`next`: what can be done, the likeliest first; `sentence` says where the unit stands, `steps` what to do by hand."""

    sentence: str
    next: tuple[Next, ...]
    steps: tuple[str, ...] = ()


BENCH = (
    "Leave the ignition off and take the unit out of the vehicle.",
    "Connect it on the bench, with a supply of its own, and switch it on: it comes up in boot mode.",
    "Connect here again: the write can then be gone on with, or the backup put back.",
)


def standing_of(pair: Pair, journals: Sequence[Journal]) -> Standing:
    """Where a unit stands, or both of a pair: only what can be done with both is offered."""
    found = [standing(pair.of(j), j) for j in journals]
    if len(found) == 1:
        return found[0]
    sentence = f"Half a pair. {' '.join(s.sentence for s in found)} Both are gone on with, or both put back."
    hands: list[Next] = [way for s in found for way in s.next if way in ("bench", "that unit")]
    steps = next((s.steps for s in found if s.steps), ())
    if hands:
        return Standing(sentence, tuple(dict.fromkeys(hands)), steps)
    return Standing(sentence, tuple(way for way in found[0].next if all(way in s.next for s in found)), steps)


def standing(flashing: Flashing, journal: Journal) -> Standing:
    """Look at the unit. Raises nothing of what a link may do: a unit that cannot be asked stands somewhere too."""
    serial = journal.begun.serial
    try:
        flashing.answers_again()
        found = flashing.tester.text(Did.SERIAL_NUMBER)
        if found != serial:
            return Standing(f"{serial} was being written; this is {found}.", ("that unit",))
        flashing.identify()
        if not flashing.tester.state().opened:
            sentence = f"{serial} was being written, and takes no programming where it lies."
            return Standing(sentence, ("bench",), BENCH)
        flashing.tester.extended_session()
        held = flashing.read(stoppable=False)
    except PASSING:
        return Standing(f"{serial} was being written and does not answer.", ("bench",), BENCH)
    except LinkError as error:
        return Standing(f"{serial} was being written and cannot be read: {error.what}.", ("bench",), BENCH)
    there = {}
    for name, sha in (("image", journal.begun.image), ("backup", journal.begun.backup)):
        try:
            there[name] = flashing.vault.get(sha)
        except YarvicError:
            continue  # damaged, or gone: the other may still be there
    if "image" in there and not flashing.differing(held, there["image"]):
        return Standing(f"{serial} holds all of the new image; it was not proven yet.", ("go on", "restore"))
    if "backup" in there and not flashing.differing(held, there["backup"]):
        return Standing(f"{serial} holds what it held before.", ("restore", "go on"))
    ways: list[Next] = [way for way, name in (("go on", "image"), ("restore", "backup")) if name in there]  # type: ignore[misc]
    if not ways:
        return Standing(f"{serial} is half written, and neither image can be had.", ("bench",), BENCH)
    return Standing(f"{serial} is half written and does not start.", tuple(ways))
