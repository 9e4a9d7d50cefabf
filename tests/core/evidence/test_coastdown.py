"""The drivetrain's loss from a coast-down."""

import numpy as np
import pytest

from yarvic.bench.cell import dyno
from yarvic.bench.coast import coast, resisting_torque, turning_inertia
from yarvic.bench.plant import load_plant
from yarvic.core.errors import EvidenceError
from yarvic.core.evidence.coastdown import coast_down
from yarvic.core.evidence.conditions import Conditions
from yarvic.core.evidence.log import Channel, Log


def conditions(inertia=20.0):
    return Conditions(
        pressure_pa=97000, temperature_k=290, relative_humidity=0.5, fuel="petrol-95", dyno="d", gear=4, throttle=0.0,
        cool_down_s=0, charge_start_k=290, simulated=True, run="coast", turning_inertia_kg_m2=inertia,
    )  # fmt: skip


def run_out(a, b, inertia, start=120.0, seconds=40.0, noise=0.0):
    """The exact run-out of J dw/dt = -(a + b w): w = (w0 + a/b) exp(-b t / J) - a/b."""
    t = np.arange(0, seconds, 0.01)
    w = (start + a / b) * np.exp(-b * t / inertia) - a / b
    w = w[w > 0.2 * start]
    t = t[: w.size]
    w = w + np.random.default_rng(1).normal(0, noise, w.size)
    return Log({"roller_speed": Channel("roller_speed", "Roller", "engine speed", "rpm", t, w * 30 / np.pi)})


def test_the_exact_solution_is_read_back():
    """Against the closed solution of the linear equation of motion."""
    found = coast_down(run_out(12.0, 0.25, 20.0), conditions())
    assert found.coefficients == (pytest.approx(12.0, rel=5e-3), pytest.approx(0.25, rel=5e-3))
    loss, _ = found.loss_w(80.0)
    assert loss == pytest.approx((12 + 0.25 * 80) * 80, rel=2e-3)
    share, error = found.share(80.0, 20e3)
    assert share == pytest.approx(loss / (20e3 + loss)) and error < 0.01


def test_noise_widens_the_error():
    quiet = coast_down(run_out(12.0, 0.25, 20.0, noise=1e-4), conditions()).loss_w(80.0)[1]
    loud = coast_down(run_out(12.0, 0.25, 20.0, noise=0.2), conditions()).loss_w(80.0)[1]
    assert loud > 10 * quiet


@pytest.mark.parametrize("name", ["ptarmigan", "wether", "fieldfare"])
def test_the_bench_loses_what_it_is_made_to(name):
    d, cell = load_plant(name).driveline, dyno("north")
    log = coast(d, cell, 900.0, (1, 2))
    found = coast_down(log, conditions(turning_inertia(d, cell)))
    full = 900 * np.pi / 30
    for share in (0.5, 0.9):
        w = share * full
        assert found.loss_w(w)[0] == pytest.approx(resisting_torque(d, cell, w, full) * w, rel=0.01)


@pytest.mark.parametrize(
    ("log", "cond", "words"),
    [
        (run_out(12, 0.25, 20), conditions(None), "inertia"),
        (run_out(12, 0.25, 20, seconds=3), conditions(), "too short"),
        (run_out(-40, 0.1, 20, seconds=20), conditions(), "does not slow down"),
    ],
)
def test_what_is_no_coast_down(log, cond, words):
    with pytest.raises(EvidenceError, match=words):
        coast_down(log, cond)


def test_speeds_outside_the_run_are_not_guessed():
    with pytest.raises(EvidenceError, match="covers"):
        coast_down(run_out(12.0, 0.25, 20.0), conditions()).loss_w(300.0)
