"""What the measurements on the builds are tests of: the same map with a new part, the same part with a new map."""

from __future__ import annotations

from yarvic.core.errors import EvidenceError
from yarvic.state.gains import gain_between
from yarvic.state.readings import interval_words
from yarvic.state.results import PullResult, RevisionResults, apart, unlike
from yarvic.state.session import Session


def _on(results: RevisionResults, build: int, standard: str) -> list[PullResult]:
    """The full pulls of a revision on a build that may stand together with the last of them."""
    mine = [p for p in results.at_full_throttle if p.evidence.build == build and standard in p.curves]
    return [p for p in mine if not apart(p, mine[-1])]


def tests_of_builds(session: Session) -> list[str]:
    """A sentence for each neighbouring pair of measurements that differ in one thing, with the gain and its interval."""
    job = session.job
    if job is None:
        return []
    titles = {b.number: b.title for b in job.builds()}
    measured: list[tuple[str, int, list[PullResult]]] = []
    for revision in session.revisions():
        results = session.results.get(revision.id)
        if results is None:
            continue
        for build in sorted({p.evidence.on_build for p in results.pulls}):
            pulls = _on(results, build, session.standard)
            if pulls:
                measured.append((revision.name, build, pulls))
    found = []
    for i, (name, build, pulls) in enumerate(measured):
        for other_name, other_build, other in measured[:i]:
            if name == other_name and build != other_build:
                what = f"Same map, new part: {name} with {titles.get(build, build)}"
            elif build == other_build and name != other_name:
                what = f"Same part, new map: {name} over {other_name} on build {build}"
            else:
                continue
            found.append(f"{what}: {_gain(session, pulls, other)}.")
    return found


def _gain(session: Session, pulls: list[PullResult], other: list[PullResult]) -> str:
    assert session.job is not None
    one, before = pulls[-1].evidence.conditions, other[-1].evidence.conditions
    reasons = unlike(pulls[-1], other[-1]) if one is not None and before is not None else ["conditions are missing"]
    if reasons:
        return f"not to be set against each other, {reasons[0]}"
    try:
        g, _ = gain_between(pulls, other, session.standard, session.job.sheet.band_rpm)
    except EvidenceError as error:
        return str(error)
    words = interval_words(g.over_band, session.settings.units.get("power", "kW"))
    if g.over_band.distinguishable is False:
        return f"not distinguishable, {words} at the {pulls[-1].basis} in the band"
    return f"{words} at the {pulls[-1].basis} in the band"
