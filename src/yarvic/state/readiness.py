"""Readiness from the link: the unit's own fault codes and supply voltage, put where they are asked for."""

from __future__ import annotations

from datetime import UTC, datetime

from yarvic.core.errors import JobError, LinkError
from yarvic.state.session import Session


def read_fault_codes(session: Session) -> int:
    """Read the stored codes into the readiness list; gives how many. Raises LinkError without a unit, JobError."""
    if session.bench is None or session.sheet is None:
        raise LinkError("no unit is on the link", remedy="Import the stock image under Maps first.")
    if not session.settings.author:
        raise JobError("who looks at it?", remedy="Give your name under Readiness.")
    codes = session.bench.unit.fault_codes()
    item = session.sheet.item("fault_codes")
    reason = "; ".join(f"{c.code} {c.title}" for c in codes)
    when = datetime.now(UTC).isoformat(timespec="seconds")
    count = float(len(codes))
    session.sheet.see(
        item.key, item.by_number(count), reason=reason, who=session.settings.author, when=when, value=count
    )
    session.say(f"Read from the simulated unit: {reason or 'no stored codes'}.")
    return len(codes)
