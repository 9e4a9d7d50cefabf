"""The simulated vehicle's unit between the threads that change it."""

import sys
import threading

import pytest

from yarvic.bench.unit import SimulatedUnit


@pytest.fixture
def switching():
    before = sys.getswitchinterval()
    sys.setswitchinterval(1e-6)
    yield
    sys.setswitchinterval(before)


def test_what_two_threads_change_around_it_is_all_there(layout, stock, switching):
    unit, lost = SimulatedUnit(layout, stock), []

    def change(name, values):
        for value in values:
            unit.surround(**{name: value})
            if getattr(unit.around, name) != value:
                lost.append(name)

    changes = {"charge": [n / 3000 for n in range(3000)], "maintained": [n % 2 == 0 for n in range(3000)]}
    threads = [threading.Thread(target=change, args=each) for each in changes.items()]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert lost == [] and (unit.around.charge, unit.around.maintained) == (2999 / 3000, False)
