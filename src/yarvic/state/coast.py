"""The drivetrain's loss as the last coast-down has it, at the speed and power of the measured peak."""

from __future__ import annotations

from dataclasses import dataclass

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.coastdown import coast_down
from yarvic.core.evidence.repeatability import mean_curve
from yarvic.core.physics.power import RAD_PER_S_PER_RPM
from yarvic.state.session import Session

# Half-width of a 95 % interval in standard errors.
NORMAL_95 = 1.96


@dataclass(frozen=True)
class Loss:
    """Share of crank power lost, its 95 % half-width, and what it is from."""

    share: float
    half_width: float
    source: str


def measured_loss(session: Session) -> Loss:
    """The loss from the last coast-down, at the peak of the pulls on the same build and dyno.

    Raises EvidenceError when there is no coast-down, no pull to hold it against, or the speeds do not meet.
    """
    job = session.job
    runs = [e for e in job.evidence() if e.conditions is not None and e.conditions.run == "coast"] if job else []
    if job is None or not runs:
        raise EvidenceError(
            "there is no coast-down yet", remedy="Choose it as the run on the bench's page, and run it under Dyno."
        )
    run = runs[-1]
    assert run.conditions is not None
    found = coast_down(job.log(run.id), run.conditions)
    for revision in reversed(session.revisions()):
        results = session.results.get(revision.id)
        pulls = results.together() if results is not None else []
        mine = [
            p
            for p in pulls
            if p.evidence.build == run.build
            and p.basis == "wheel"
            and p.evidence.conditions is not None
            and p.evidence.conditions.dyno == run.conditions.dyno
            and p.evidence.conditions.engine_per_roller is not None
        ]
        if not mine:
            continue
        curve = mean_curve([p.curves["none"] for p in mine])
        power, speed = curve.peak_power
        conditions = mine[-1].evidence.conditions
        assert conditions is not None and conditions.engine_per_roller is not None
        roller = speed / conditions.engine_per_roller * RAD_PER_S_PER_RPM
        share, error = found.share(roller, power)
        text = f"coast-down {run.id}, at {speed:,.0f} rpm of {revision.name}"
        return Loss(share, NORMAL_95 * error, text)
    raise EvidenceError(
        f"no pulls of build {run.build} on the same dyno to compare with the coast-down", remedy="Pull there too."
    )
