"""What several tests of the state stand on."""

import shutil

import numpy as np
import pytest

from yarvic.bench.vehicles import layout_text
from yarvic.core.calibration.image import Image
from yarvic.core.job.model import Fitting
from yarvic.core.job.store import Job
from yarvic.demo.ptarmigan import PTARMIGAN
from yarvic.demo.story import AUTHOR
from yarvic.state.session import Session
from yarvic.state.settings import Settings
from yarvic.state.work import InlineRunner


@pytest.fixture(scope="session")
def small_job(tmp_path_factory, layout, stock, pulled):
    """Stock, A1 and B1 with a run of each, B1 in the unit: nothing that takes long to judge."""
    path = tmp_path_factory.mktemp("small") / "small.yarvic"
    job = Job.create(path, PTARMIGAN.sheet(), layout_text("ptarmigan"), stock, author=AUTHOR)
    maps = Image(layout, stock)
    for name in ("A1", "B1"):
        spark = maps["RON 95"].table("spark_advance")
        lower = spark.with_values(np.maximum(spark.values - 1.0, spark.low))
        edits = maps.edits_to("RON 95", lower, "a degree off")
        maps = maps.with_edits(edits)
        parent = job.revisions()[-1]
        if name == "B1":
            fitting = Fitting(date="2024-05-01", parts=("front-intercooler",))
            job.fit("front intercooler", {"intercooler": "front intercooler"}, fitting)
        job.commit_revision(name, parent.id, "a degree off", AUTHOR, maps.sealed(name), edits)
    for revision in job.revisions():
        job.record_flash(revision.id, "unit 1", revision.image, 3)
        job.add_evidence(f"{revision.name} pull 1", revision.id, *pulled, source="test")
    job.close()
    return path


@pytest.fixture
def at_once(small_job, tmp_path):
    """The small job in a session that does everything at once, with a unit that takes no time; `errors` are what it said."""
    made = Session(Settings(), InlineRunner())
    made.open_job(shutil.copy(small_job, tmp_path / "a.yarvic"))
    made.bench.link.place = tmp_path
    made.bench.unit.seconds_per_block = 0.0
    made.errors = []
    made.failed.connect(made.errors.append)
    yield made
    made.close_job()
