"""All sizing sheets, in the order of the way from tank to tyre."""

from yarvic.core.plan.sizing.air import COMPRESSION, COOLER, EXHAUST, TURBO
from yarvic.core.plan.sizing.drive import GEARING, PISTON
from yarvic.core.plan.sizing.fuel import BLEND, INJECTORS, OCTANE, PUMP, TANK, WINDOW

SHEETS = {
    s.key: s
    for s in (INJECTORS, WINDOW, PUMP, BLEND, TANK, OCTANE, TURBO, COOLER, COMPRESSION, EXHAUST, GEARING, PISTON)
}
