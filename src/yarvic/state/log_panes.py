"""How the traces of a job's logs are arranged: which channels stand in which pane, and what is computed of them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from typing import Annotated

from pydantic import Field

from yarvic.core.document import Document, parse_json, validated
from yarvic.core.errors import EvidenceError, YarvicError
from yarvic.core.evidence.channels import CHANNELS
from yarvic.core.evidence.expressions import compute, read_expression
from yarvic.core.evidence.log import Channel, Log
from yarvic.core.job.store import Job

VIEW = "logs"
MOST_PANES, MOST_COMPUTED = 12, 40
COMPUTED = "computed "


class Computed(Document):
    """A channel that is computed from others: its title, its expression, and in words the unit that comes out."""

    title: Annotated[str, Field(min_length=1, max_length=60)]
    expression: Annotated[str, Field(min_length=1, max_length=500)]
    unit: Annotated[str, Field(max_length=20)] = ""

    @property
    def key(self) -> str:
        """By what it stands in a pane."""
        return f"{COMPUTED}{self.title}"


class Over(Document):
    """One channel over another, tinted by a third: their keys, empty where there is none."""

    x: Annotated[str, Field(max_length=200)] = ""
    y: Annotated[str, Field(max_length=200)] = ""
    shade: Annotated[str, Field(max_length=200)] = ""


class Panes(Document):
    """The panes from top to bottom, each with the keys of its channels; none: those that are usual."""

    panes: Annotated[tuple[tuple[str, ...], ...], Field(max_length=MOST_PANES)] = ()
    computed: Annotated[tuple[Computed, ...], Field(max_length=MOST_COMPUTED)] = ()
    over: Over | None = None

    def toggled(self, key: str, usual: Sequence[tuple[str, ...]]) -> Panes:
        """With a pane for a channel, or without the one that it has; from the usual ones where none was arranged."""
        now = self.panes or tuple(usual)
        without = tuple(p for p in (tuple(k for k in pane if k != key) for pane in now) if p)
        if without != now:
            return self.changed(panes=without)
        return self.changed(panes=(*now, (key,))[-MOST_PANES:])

    def moved(self, pane: int, by: int, usual: Sequence[tuple[str, ...]]) -> Panes:
        """With a pane further up (by -1) or down."""
        now = list(self.panes or usual)
        to = pane + by
        if not (0 <= pane < len(now) and 0 <= to < len(now)):
            return self
        now[pane], now[to] = now[to], now[pane]
        return self.changed(panes=tuple(now))

    def joined(self, key: str, usual: Sequence[tuple[str, ...]]) -> Panes:
        """With a channel in the pane above its own; alone again where it was with others."""
        now = list(self.panes or usual)
        at = next((n for n, pane in enumerate(now) if key in pane), None)
        if at is None:
            return self
        rest = tuple(k for k in now[at] if k != key)
        if rest:
            now[at : at + 1] = [rest, (key,)]
        elif at > 0:
            now[at - 1 : at + 1] = [(*now[at - 1], key)]
        return self.changed(panes=tuple(now[-MOST_PANES:]))

    def with_computed(self, made: Computed, usual: Sequence[tuple[str, ...]]) -> Panes:
        """With a computed channel and its pane; one of the same title gives way. Raises EvidenceError for no expression."""
        read_expression(made.expression)
        others = tuple(c for c in self.computed if c.title != made.title)
        kept = self.changed(computed=(*others, made))
        shown = any(made.key in pane for pane in kept.panes)
        return kept if shown else kept.toggled(made.key, usual)

    def without_computed(self, title: str) -> Panes:
        """Without a computed channel, and without its pane."""
        key = f"{COMPUTED}{title}"
        panes = tuple(p for p in (tuple(k for k in pane if k != key) for pane in self.panes) if p)
        return self.changed(panes=panes, computed=tuple(c for c in self.computed if c.title != title))


def kept_panes(job: Job) -> Panes:
    """How a job's logs are arranged; as usual where nobody arranged them, or what was kept cannot be read."""
    try:
        text = job.arrangement(VIEW)
        return validated(Panes, parse_json(text, source="panes"), source="panes") if text else Panes()
    except YarvicError:
        return Panes()


def keep_panes(job: Job, panes: Panes) -> None:
    """Keep an arrangement with its job. Raises JobError."""
    if not job.read_only:
        job.keep_arrangement(VIEW, panes.model_dump_json())


def with_computed(log: Log, computed: Sequence[Computed]) -> tuple[Log, list[str]]:
    """A log with its computed channels, and in words which of them cannot be computed from it, and why."""
    found, faults = dict(log.channels), []
    for c in computed:
        asked = (c.title, c.expression, c.unit)
        if asked not in log.derived:
            try:
                t, values = compute(read_expression(c.expression), log)
            except EvidenceError as error:
                faults.append(f"{c.title}: {error.what}")
                continue
            log.derived[asked] = Channel(c.key, c.title, "", c.unit, t, values)
        found[c.key] = log.derived[asked]
    return replace(log, channels=found), faults


def computed_of(text: str) -> Computed | None:
    """What was typed as `title = expression`, with the unit in brackets behind the title: `short of target [kPa] = ...`."""
    head, sign, expression = text.partition("=")
    title, _, rest = head.strip().partition("[")
    if not sign or not title.strip() or not expression.strip() or expression.startswith("="):
        return None
    return Computed(title=title.strip()[:60], expression=expression.strip()[:500], unit=rest.strip().rstrip("]")[:20])


def title_of(key: str, log: Log) -> str:
    """The title of a channel, computed or not."""
    if key in log.channels:
        return log.channels[key].title
    return CHANNELS[key].title if key in CHANNELS else key.removeprefix(COMPUTED)
