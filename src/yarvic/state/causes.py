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
    others = found.ranked[len(found.likeliest) : MOST_NAMED]
    then = f" Then: {'; '.join(_named(c) for c in others)}." if others else ""
    left = f" Explained by neither: {', '.join(found.unexplained)}." if found.unexplained else ""
    if not found.together:
        left = left.replace("by neither", "by none of it")
    each = " And at ".join(_with_signs(c) for c in found.likeliest)
    points = "Points at two causes at once: " if found.together else "Points at: "
    return f"{points}{each}{left}{then} Next look: {found.next_look}"


def _with_signs(cause: Ranked) -> str:
    by = f", by {', '.join(cause.explains)}" if cause.explains else ""
    against = f" Not seen of it: {', '.join(cause.lacks)}." if cause.lacks else ""
    return f"{_named(cause)}{by}.{against}"


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
            signs = dict.fromkeys(s for c in found.likeliest for s in c.explains)
            left = f" Not explained: {', '.join(found.unexplained)}." if found.unexplained else ""
            words = f"{p.title}: by {', '.join(signs)}.{left} Next look: {found.next_look}"
            named = " and ".join(_named(c) for c in found.likeliest)
            return [Reading(WATCH, f"Points at: {named}", words, step="checks")]
    return []
