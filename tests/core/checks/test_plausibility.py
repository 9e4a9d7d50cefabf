"""What is said of an edit at once. Limits of the ledger against numbers stated here; rules of thumb against themselves."""

from dataclasses import replace

import numpy as np
import pytest

from yarvic.core.calibration.storing import Storing
from yarvic.core.calibration.table import Axis, Scalar, Table
from yarvic.core.checks.components import ComponentLimit
from yarvic.core.checks.plausibility import Known, allowed_spark_deg, doubts_of_table, doubts_of_value

FINE = Storing("f64")
SPEED = Axis("Engine speed", "rpm", np.array([1000.0, 3000.0, 6000.0]), "engine_speed")
LOAD = Axis("Cylinder filling", "%", np.array([50.0, 100.0, 200.0]), "filling")


def spark(values=20.0, **more):
    return Table("s", "Spark", "deg", SPEED, LOAD, np.full((3, 3), values), -20.0, 60.0, FINE, **more)


def at(table, row, column, value):
    values = table.values.copy()
    values[row, column] = value
    return replace(table, values=values)


def said(before, after, **known):
    return [d.sentence for d in doubts_of_table(before, after, Known(**known))]


def limit(key, safe, stretch, unit, basis="crank"):
    return ComponentLimit(
        key=key, component="gearbox", basis=basis, unit=unit, safe=safe, stretch=stretch, source="its tag"
    )


def test_a_step_is_said_where_the_edit_made_it():
    before = at(spark(), 0, 0, 40.0)  # a step that was there already
    after = at(before, 1, 1, 26.5)
    [sentence] = said(before, after, role="spark_advance")
    assert "a step of 6.5 deg" in sentence and "more than 6" in sentence and "3000 rpm, 100 %" in sentence
    assert said(before, at(before, 1, 1, 25.5), role="spark_advance") == []
    assert said(before, after) == []  # nothing is known of a table without a role


def test_spark_beyond_fuel_and_boost():
    """The rule of thumb: a degree less for each 7 kPa of boost. Common practice, no published source."""
    base = allowed_spark_deg(np.array(3000.0), np.array(100.0), 95.0)
    assert base - allowed_spark_deg(np.array(3000.0), np.array(170.0), 95.0) == pytest.approx(70.0 * 0.14)
    assert allowed_spark_deg(np.array(3000.0), np.array(100.0), 98.0) > base
    before = spark(15.0)
    after = replace(before, values=before.values + np.array([[0.0], [0.0], [8.0]]))
    [*_, sentence] = said(before, after, role="spark_advance", ron=95.0)
    assert "23.0 deg at 1000 rpm, 200 %" in sentence and "RON 95 and about 200 kPa" in sentence
    assert all("RON" not in s for s in said(before, after, role="spark_advance"))  # the fuel is not known
    assert all("RON" not in s for s in said(before, after, role="spark_advance", ron=95.0, spark_ignition=False))


def test_advance_where_the_engine_was_retarded():
    retard = np.full((3, 3), np.nan)
    retard[1, 1] = 3.6
    known = {"role": "spark_advance", "retard_deg": retard, "retard_limit_deg": 1.6}
    assert any("retarded 3.6 deg" in s for s in said(spark(), at(spark(), 1, 1, 21.0), **known))
    assert said(spark(), at(spark(), 1, 1, 19.0), **known) == []
    assert said(spark(), at(spark(), 0, 0, 21.0), **known) == []


def test_what_a_component_does_not_bear():
    torque = replace(spark(300.0), key="t", unit="N m", high=1000.0)
    limits = (limit("gearbox_torque", 320.0, 350.0, "N m"), limit("torque", 200.0, 210.0, "N m", "wheel"))
    known = {"role": "torque_limit", "limits": limits}
    assert said(torque, at(torque, 0, 2, 315.0), **known) == []
    assert "beyond what gearbox stands without wear" in said(torque, at(torque, 0, 2, 330.0), **known)[0]
    [sentence] = said(torque, at(torque, 0, 2, 360.0), **known)
    assert "360 N m at 6000 rpm, 50 %: more than gearbox stands, 350 N m" in sentence
    rev = Scalar("r", "Rev limit", "rpm", 6600.0, 0.0, 9000.0, FINE)
    shaft = Known(role="rev_limit", limits=(limit("engine_speed", 6800.0, 7000.0, "rpm", "shaft"),))
    assert doubts_of_value(rev, replace(rev, value=6700.0), shaft) == []
    assert "7200 rpm: more than gearbox stands" in doubts_of_value(rev, replace(rev, value=7200.0), shaft)[0].sentence


def test_an_axis_that_no_longer_covers_where_the_engine_runs():
    before = spark()
    after = replace(before, x=replace(SPEED, values=np.array([1500.0, 3000.0, 5000.0])))
    ran = {"engine_speed": (1200.0, 6400.0)}
    sentences = said(before, after, ran=ran)
    assert len(sentences) == 2 and "ends at 1500 rpm; the engine ran down to 1200" in sentences[0]
    assert "ends at 5000 rpm; the engine ran up to 6400" in sentences[1]
    assert said(before, replace(before, x=replace(SPEED, values=np.array([1000.0, 3000.0, 6500.0]))), ran=ran) == []
