"""The wagon whose evidence comes as files: what ships is what the bench measured, and is read as such or asked."""

import numpy as np
import pytest

from yarvic.core.calibration.image import Image
from yarvic.core.calibration.roles import propose
from yarvic.core.errors import LinkError
from yarvic.core.evidence.mapping import Facts
from yarvic.core.evidence.pulls import find_pulls
from yarvic.core.evidence.sheet.curve import sheet_curve, sheet_questions
from yarvic.core.evidence.sheet.joining import candidates, one_for_each
from yarvic.core.formats.logs.import_log import import_logs, read_file
from yarvic.core.units import UNITS, convert
from yarvic.demo import foreign, outside
from yarvic.demo.jobs import outside_files

# What a logger's last digit and its lag between two samples leave, by quantity, canonical.
CLOSE = {"pressure": 3.0e3, "temperature": 0.6, "mixture": 0.012, "ratio": 0.02, "angle": 0.76, "engine speed": 25.0,
         "speed": 0.3}  # fmt: skip


@pytest.fixture(scope="module")
def made(tmp_path_factory):
    """The files made anew, and the bench's own logs."""
    folder = tmp_path_factory.mktemp("outside")
    return folder, outside.write_all(folder)


def test_the_shipped_files_are_what_the_bench_gives(made):
    folder, _ = made
    for name in (outside.FRENCH, outside.GAUGE, outside.SPARSE):
        assert outside.shipped(name).split(b"\n")[0] == (folder / name).read_bytes().split(b"\n")[0]
    shipped, anew = (np.array([float(x) for x in _speeds(data)]) for data in
                     (outside.shipped(outside.GAUGE), (folder / outside.GAUGE).read_bytes()))  # fmt: skip
    assert np.allclose(shipped, anew, atol=2.0)
    for name in (outside.DESCRIPTION, outside.IMAGE):
        assert outside.shipped(name) == (folder / name).read_bytes()


def test_the_unit_that_nobody_has_seen_is_read_as_the_bench_ran_it():
    """Laid by hand in other types, orders and units, described by the standard: the same numbers as the bench's maps."""
    taken = outside.taken()
    assert taken.faults == () and taken.unknown == () and [x.key for x in taken.layout.left_out] == ["Tq_Shown"]
    assert taken.layout.gaps == foreign.gaps() and not taken.data.startswith(b"YRVC")
    maps, truth = Image(taken.layout, taken.data)["Maps"], outside._stock(outside.bench_layout())
    spec = foreign.unit()
    for entry in spec["maps"]:
        mine, bench = maps.table(entry["name"]), truth.table(entry["from"])
        same = mine.unit if mine.unit in UNITS else bench.unit
        assert np.allclose(convert(mine.values, same, bench.unit), bench.values), entry["name"]
        assert np.allclose(mine.x.values, bench.x.values) and mine.x.input == "engine_speed"
    for entry in spec["values"][:-1]:
        assert maps.scalar(entry["name"]).value == pytest.approx(truth.scalar(entry["from"]).value)
    assert maps.scalar("Sw_Shutter").shown() == "on" and maps.scalar("Fuel_Kind").shown() == "RON 95"
    assert maps.texts["Veh_Name"].text == "PATROL 4" and maps.table("Idle_Trim[2]").values.tolist() == [
        [28, 29],
        [30, 31],
    ]


def test_its_roles_are_proposed_as_they_are():
    found = {p.role: p.key for p in reversed(propose(outside.taken().layout))}
    assert found == {
        "spark_advance": "SpkAdv_Base", "boost_target": "Boost_Tgt", "lambda_target": "Lam_Tgt", "filling": "Fill_Base",
        "torque_limit": "Tq_Lim_Gear", "rev_limit": "nMax", "knock_limit": "Knk_RetMax",
    }  # fmt: skip


def _speeds(data):
    return [line.split(",")[1] for line in data.decode("utf-8-sig").splitlines()[1:]]


@pytest.mark.parametrize("name", [outside.FRENCH, outside.GAUGE, outside.SPARSE])
def test_each_log_is_read_as_it_was_measured(made, tmp_path, name):
    truth = made[1][name]
    path = next(p for p in outside_files(tmp_path) if p.name == name)
    facts = Facts(outside.WARM.pressure_pa, outside.PETROL_AFR)
    (found,) = import_logs(path, facts=facts)
    assert not [c.name for c in found.understood.columns if not c.channel]
    start = truth.span()[0] + 0.15
    for key, channel in found.log.channels.items():
        assert channel.doubt is None, (key, channel.doubt)
        expected = truth.at(key, channel.time_s - channel.time_s[0] + start + _late(found, channel))
        off = np.abs(channel.values - expected)
        close = CLOSE[channel.quantity] + (2e5 if "rail" in key else 0.0)
        assert np.nanpercentile(off, 95) < close, (key, channel.quantity, np.nanpercentile(off, 95))
    (pull,) = find_pulls(found.log)
    assert pull.to_rpm > 6300


def _late(found, channel):
    """When a channel of the sparse logger was first seen, after its clock began."""
    first = min(c.time_s[0] for c in found.log.channels.values())
    return channel.time_s[0] - first


def test_gauge_pressure_and_ratio_are_asked(tmp_path):
    path = next(p for p in outside_files(tmp_path) if p.name == outside.GAUGE)
    (found,) = import_logs(path)
    doubts = {k: c.doubt.about for k, c in found.log.channels.items() if c.doubt is not None}
    assert doubts == {
        "boost_pressure": "reference", "boost_target": "reference", "lambda_measured": "fuel", "lambda_target": "fuel",
    }  # fmt: skip
    retard = found.log.channels["spark_correction_4"].values
    assert np.nanmin(retard) < -2.0 and np.nanmax(retard) == 0.0  # positive retard was turned


def test_the_sheet_gives_the_bench_own_power_and_of_three_alike_none_is_taken(made, tmp_path):
    path = next(p for p in outside_files(tmp_path) if p.name == outside.SHEET)
    runs = read_file(path)
    assert [r.raw.part for r in runs] == ["sheet Lauf 1", "sheet Lauf 2", "sheet Lauf 3"]
    evening = made[1][outside.GAUGE]
    bests = []
    for run in runs:
        log, said = run.log(run.understood), run.understood.curve
        assert not sheet_questions(log, said) and (said.basis, said.corrected_by) == ("wheel", "none")
        c = run.said.conditions
        assert c.pressure_pa == pytest.approx(outside.WARM.pressure_pa, rel=2e-3)  # it was given reduced to sea level
        curve = sheet_curve(log, said, run.understood.columns, c)
        assert curve.peak_power[0] / UNITS["kW"].factor == pytest.approx(118.2, abs=0.6)
        speed = log.channel("engine_speed")
        others = [("evening", evening), ("morning", made[1][outside.SPARSE]), ("stock", made[1][outside.FRENCH])]
        found, best = candidates(speed.values, speed.time_s, others)
        assert found[0].run == "evening" and not next(f for f in found if f.run == "stock").fits
        bests.append(best)
    assert all(b is not None for b in bests) and one_for_each(bests) == [None, None, None]
    assert one_for_each([bests[0], None]) == [bests[0], None]


def test_nothing_simulates_it():
    from yarvic.bench.vehicles import plant_for

    with pytest.raises(LinkError):
        plant_for(outside.taken().layout.family)
