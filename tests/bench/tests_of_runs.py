"""A run watched from inside: what the engine gave, beside what the logger wrote."""

import numpy as np

from yarvic.bench.rig import usual_settings
from yarvic.bench.run import DT, Run


def truth_of_a_run(bench, name):
    """True roller power over engine speed, the log, and the conditions of the same run."""
    rig = bench.rig(name)
    how = usual_settings(rig.plant)
    rig.cool(how.cool_down_s, how.fan)
    around = rig._around(how.fan)
    run = Run(rig.plant, rig._engine(how, around, np.random.default_rng(1)), around, rig.dyno, how, {}, (1,), None)
    rpm, roller_w = [], []
    while not run.finished:
        before = run.drive.output_rad_s
        run.step()
        after = run.drive.output_rad_s
        rate = (after - before) / DT
        inertia = rig.dyno.roller_inertia_kg_m2 / run.ratio**2
        if run.pedal == 1.0:
            rpm.append(run.drive.engine_rpm)
            roller_w.append(inertia * rate * 0.5 * (before + after))
    conditions = rig._conditions(how, around.air, 300.0, np.random.default_rng(2))
    return {"rpm": np.array(rpm), "roller_w": np.array(roller_w)}, run.log(), conditions
