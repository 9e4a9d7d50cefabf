"""The list of all tables and values: by what they govern, with marks, searched and narrowed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from types import MappingProxyType
from typing import Literal

from yarvic.core.calibration.compare import Difference, compare
from yarvic.core.calibration.grouping import group_order, groups_of
from yarvic.core.calibration.layout import Axis, Entry, Layout
from yarvic.core.calibration.roles import title_of
from yarvic.core.errors import CalibrationError
from yarvic.state.compared import Compared
from yarvic.state.selection import DRAFT
from yarvic.state.shown_table import ShownTable

Narrowed = Literal["all", "differs", "draft", "evidence", "favourites"]
MOST_FAVOURITES, MOST_BACK = 200, 50
MOST_HEARD = 8  # runs whose channels say which tables have evidence
MARK_TITLES: Mapping[Narrowed, str] = MappingProxyType(
    {
        "all": "All",
        "differs": "Differs from reference",
        "draft": "Touched in draft",
        "evidence": "Evidence",
        "favourites": "Favourites",
    }
)


@dataclass(frozen=True)
class Row:
    """An entry in the list, or the title of a group above its entries (key empty)."""

    key: str
    title: str
    group: str = ""
    what: str = ""
    unit: str = ""
    role: str = ""
    favourite: bool = False
    differs: bool = False
    draft: bool = False
    evidence: bool = False


class Listing:
    """Rows as they are asked for. What costs is worked out once for the images that it is of."""

    def __init__(self, maps: ShownTable, compared: Compared) -> None:
        self.maps, self.compared = maps, compared
        self.text = ""
        self.narrowed: Narrowed = "all"
        self._static: tuple[Layout | None, dict[str, tuple[str, str, str]], list[Entry]] = (None, {}, [])
        self._heard: tuple[object, frozenset[str]] = ((), frozenset())
        self._back: list[str] = []

    # -- rows

    def rows(self) -> list[Row]:
        """What fits the text and the mark, group by group. An empty list without maps."""
        try:
            layout = self.maps.layout()
        except CalibrationError:
            return []
        facts, ordered = self._facts(layout)
        names = self.maps.names()
        fitting = names.fitting(self.text) if names is not None and self.text.strip() else None
        marks = self._marks(layout)
        wanted = None if self.narrowed == "all" else marks[self.narrowed]
        found: list[Row] = []
        last = ""
        for entry in ordered:
            key = entry.key
            if (fitting is not None and key not in fitting) or (wanted is not None and key not in wanted):
                continue
            group, what, role = facts[key]
            if group != last:
                found.append(Row("", group))
                last = group
            found.append(
                Row(
                    key, entry.named, group, what, entry.unit, role, key in marks["favourites"],
                    key in marks["differs"], key in marks["draft"], key in marks["evidence"],
                )
            )  # fmt: skip
        return found

    def _facts(self, layout: Layout) -> tuple[dict[str, tuple[str, str, str]], list[Entry]]:
        """Of each entry group, kind with size, role; and all entries group by group. The same for a layout."""
        if self._static[0] is not layout:
            groups = groups_of(layout)
            place = {title: n for n, title in enumerate(group_order(layout))}
            roles = {key: title_of(name) for name, role in layout.roles.items() for key in role.entries}
            facts = {e.key: (groups[e.key], _what(layout, e), roles.get(e.key, "")) for e in layout.entries}
            ordered = sorted(layout.entries, key=lambda e: place[groups[e.key]])
            self._static = layout, facts, ordered
        return self._static[1], self._static[2]

    def _marks(self, layout: Layout) -> dict[Narrowed, frozenset[str]]:
        session = self.maps.session
        slot = session.slot
        working, reference = session.image(session.working), self.compared.image()
        differs: frozenset[str] = frozenset()
        if working is not None and reference is not None:
            differs = frozenset(working.changed_keys(reference, slot))
        draft: frozenset[str] = frozenset()
        if session.draft is not None and session.working == DRAFT:
            draft = frozenset(session.draft.image.changed_keys(session.draft.base, slot))
        favourites = frozenset(session.settings.favourites.get(layout.family, ()))
        return {"differs": differs, "draft": draft, "evidence": self._with_evidence(layout), "favourites": favourites}

    def _with_evidence(self, layout: Layout) -> frozenset[str]:
        """The tables all whose axes some run of the revision in hand measured."""
        results = self.maps.session.working_results()
        if results is None:
            return frozenset()
        runs = self.maps.runs_of_slot(results)[-MOST_HEARD:]
        key = (results.revision_id, tuple(id(run) for run in runs))
        if self._heard[0] != key:
            self._heard = key, frozenset().union(*(run.log.channels for run in runs))
        heard = self._heard[1]
        return frozenset(
            e.key
            for e in layout.entries
            if e.x is not None and e.x.input in heard and (e.y is None or e.y.input in heard)
        )

    def difference(self, key: str) -> Difference | None:
        """How an entry differs from the reference; None where it does not."""
        session = self.maps.session
        working, other = session.image(session.working), self.compared.image()
        if working is None or other is None:
            return None
        try:
            return next(iter(compare(other[session.slot], working[session.slot], [key])), None)
        except CalibrationError:
            return None

    # -- favourites, and the way back

    def toggle_favourite(self, key: str) -> None:
        """Mark an entry as a favourite of this family, or take the mark off; it is remembered from job to job."""
        settings, family = self.maps.session.settings, self.maps.layout().family
        now = list(settings.favourites.get(family, ()))
        if key in now:
            now.remove(key)
        elif len(now) < MOST_FAVOURITES:
            now.append(key)
        settings.favourites = {**settings.favourites, family: tuple(now)}
        self.maps.changed.emit()

    def is_favourite(self, key: str) -> bool:
        """Whether it is one."""
        return key in self.maps.session.settings.favourites.get(self.maps.layout().family, ())

    def went_from(self, key: str) -> None:
        """Remember what was shown, to come back to it."""
        if key and (not self._back or self._back[-1] != key):
            self._back = [*self._back[-MOST_BACK:], key]

    @property
    def can_go_back(self) -> bool:
        """Whether something was shown before."""
        return bool(self._back)

    def back(self) -> str:
        """What was shown before, not to be come back to again; empty where nothing was."""
        return self._back.pop() if self._back else ""

    def forget(self) -> None:
        """Another job has other tables."""
        self._back.clear()


def _what(layout: Layout, entry: Entry) -> str:
    """What kind of entry it is, with its size as far as the layout says it."""
    if entry.kind in ("value", "text"):
        return entry.kind
    if entry.kind == "block" or entry.x is None:
        return f"block of {entry.count}"
    counts = [_count(layout, axis) for axis in (entry.x, entry.y) if axis is not None]
    return f"{entry.kind} {' x '.join(str(c) for c in reversed(counts))}"


def _count(layout: Layout, axis: Axis) -> int:
    own = layout.axis_by_key.get(axis.of, axis) if axis.kind == "shared" else axis
    return len(own.values) or own.count
