"""What findings point at, in words and as a reading."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yarvic.core.checks.finding import WATCH
from yarvic.state.reading import Reading
from yarvic.state.results import RevisionResults
from yarvic.state.session import Session

if TYPE_CHECKING:
    from yarvic.core.checks.causes import Causes, Ranked
    from yarvic.core.checks.for_owner import OwnersPage

MOST_NAMED = 3


def causes_in_words(found: Causes) -> str:
    """The likeliest causes with their shares, what speaks for the first, and the next look; empty where none is seen."""
    if not found.ranked:
        return ""
    first, others = found.ranked[0], found.ranked[1:MOST_NAMED]
    then = f" Then: {'; '.join(_named(c) for c in others)}." if others else ""
    by = f", by {', '.join(first.explains)}" if first.explains else ""
    against = f" Not seen of it: {', '.join(first.lacks)}." if first.lacks else ""
    return f"Points at: {_named(first)}{by}.{against}{then} Next look: {found.next_look}"


def _named(cause: Ranked) -> str:
    return f"{cause.title[:1].lower()}{cause.title[1:]} ({cause.share * 100.0:.0f} %)"


def owners_page_of(session: Session) -> OwnersPage | None:
    """The page for the owner of what the working revision's evidence says; None where nothing was judged."""
    from yarvic.core.checks.causes import Causes  # neither is needed at start
    from yarvic.core.checks.for_owner import owners_page

    job, results, revision = session.job, session.working_results(), session.evidence_revision()
    if job is None or results is None or revision is None or not results.pulls:
        return None
    engine = job.sheet.vehicle.asked
    found = next((c for p in reversed(results.pulls) if (c := p.causes(engine)).ranked), Causes((), ""))
    return owners_page(
        job.sheet.title, revision.name, results.summaries, results.unjudged, found, simulated=results.simulated
    )


def causes_reading(session: Session, results: RevisionResults) -> list[Reading]:
    """A card for what the newest pull that points anywhere points at."""
    job = session.job
    if job is None:
        return []
    for p in reversed(results.pulls):
        found = p.causes(job.sheet.vehicle.asked)
        if found.ranked:
            first = found.ranked[0]
            words = f"{p.title}: by {', '.join(first.explains)}. Next look: {found.next_look}"
            return [Reading(WATCH, f"Points at: {_named(first)}", words, step="checks")]
    return []
