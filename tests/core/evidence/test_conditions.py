"""Conditions of which each may be unknown: what needs one says so, and nothing unknown compares."""

import pytest

from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.conditions import Conditions

KNOWN = {
    "pressure_pa": 97e3, "temperature_k": 293.0, "relative_humidity": 0.4, "fuel": "petrol-95", "dyno": "north", "gear": 4,
    "throttle": 1.0, "simulated": False,
}  # fmt: skip


@pytest.mark.parametrize("missing", ["pressure_pa", "temperature_k", "relative_humidity"])
def test_air_that_is_not_known_is_named(missing):
    with pytest.raises(EvidenceError, match=missing.split("_")[-2 if missing[-2:] in ("pa", "_k") else -1]):
        _ = Conditions(**{k: v for k, v in KNOWN.items() if k != missing}).air
    assert Conditions(**KNOWN).air.pressure_pa == 97e3
    assert Conditions(simulated=False).gear is None


@pytest.mark.parametrize(
    ("change", "said"),
    [
        ({"simulated": True}, "one was simulated, the other measured"),
        ({"fuel": ""}, "the fuel of one of them is unknown"),
        ({"dyno": ""}, "the dyno of one of them is unknown"),
        ({"gear": None}, "the gear of one of them is unknown"),
        ({"fuel": "petrol-98"}, "two fuels"),
        ({"gear": 3}, "gears"),
        ({"throttle": 0.5}, "throttle differs"),
    ],
)
def test_what_differs_or_is_known_of_one_only_keeps_two_runs_apart(change, said):
    one, other = Conditions(**KNOWN), Conditions(**{**KNOWN, **change})
    assert any(said in reason for reason in one.comparable_with(other))
    assert one.comparable_with(one) == []
