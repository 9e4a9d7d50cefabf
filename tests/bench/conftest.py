"""The three simulated vehicles, each with its unit, for the tests of the bench."""

import numpy as np
import pytest

from yarvic.bench.cell import Weather, dyno
from yarvic.bench.faults import faulty_memory
from yarvic.bench.plant import with_parts
from yarvic.bench.rig import Rig, usual_settings
from yarvic.bench.unit import SimulatedUnit
from yarvic.bench.vehicles import layout_text, plant_for, stock_calibrations, stock_image
from yarvic.core.calibration.image import pack
from yarvic.core.calibration.layout_file import parse_layout
from yarvic.core.evidence.dyno import dyno_curve
from yarvic.core.evidence.pulls import find_pulls
from yarvic.core.physics.air import Air

DAY = Air(97_400.0, 293.15, 0.5)


class Bench:
    """Makes rigs, runs them, and reads what they left."""

    VEHICLES = ("ptarmigan", "wether", "fieldfare")

    def layout(self, name):
        return parse_layout(layout_text(name))

    def image(self, name, changes=None, **scalars):
        """The stock image with tables changed by functions of their values, and scalars set, in every slot."""
        layout = self.layout(name)
        slots = stock_calibrations(layout)
        for slot, maps in slots.items():
            for key, change in (changes or {}).items():
                table = maps.table(key)
                values = np.clip(change(table.values), table.low, table.high)
                maps = maps.with_table(table.with_values(values))
            for key, value in scalars.items():
                maps = maps.with_scalar(maps.scalar(key).with_value(value))
            slots[slot] = maps
        return pack(slots, layout, "changed")

    def rig(
        self, name, *, image=None, air=DAY, parts=None, faults=None, seed=5, slot="", fuel="", cell="north", **kw
    ):
        layout = self.layout(name)
        plant = plant_for(layout.family)
        memory = faulty_memory(image or stock_image(name), layout, plant.kind, faults or {})
        return Rig(
            with_parts(plant, parts or {}), SimulatedUnit(layout, memory), slot or layout.sets[0],
            Weather(air, drifts=False), fuel=fuel, seed=seed, faults=faults or {}, dyno=dyno(cell), **kw,
        )  # fmt: skip

    def run(self, name, settings=None, **how):
        rig = self.rig(name, **how)
        return rig.pull(settings or usual_settings(rig.plant))

    def curve(self, run):
        log, conditions = run
        return dyno_curve(log, find_pulls(log)[0], conditions, "none", boost_controlled=False)

    def inside(self, log, key, low, high):
        """A channel's values while the engine turns between two speeds, going up."""
        speed = log.channel("engine_speed")
        top = int(np.argmax(speed.values))
        up = np.arange(speed.values.size) <= top
        t = speed.time_s[up & (speed.values >= low) & (speed.values <= high)]
        return log.at(key, t[t > 1.5])


@pytest.fixture(scope="session")
def bench():
    """A maker of rigs."""
    return Bench()


@pytest.fixture(scope="session")
def healthy(bench):
    """One usual run of each vehicle in health: log and conditions by name."""
    return {name: bench.run(name) for name in Bench.VEHICLES}
