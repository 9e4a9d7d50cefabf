"""From opening to package through the real widgets, as the demo command does it."""

import shutil

import pytest

from yarvic.core.job.store import Job
from yarvic.core.release.package import verify_package
from yarvic.desk.tour import run_tour

pytestmark = pytest.mark.window


def test_the_tour_leads_from_the_job_to_a_package(qapp, tmp_path, demo_job):
    said = []
    for other in ("wether", "fieldfare"):  # what is there is not told again
        shutil.copy(demo_job(other), tmp_path / f"{other}.yarvic")
    assert run_tour(tmp_path, said.append) is True
    told = "\n".join(said)
    for part in (
        "Cylinder 2 knocked in 3 of 3 pulls",
        "B1 does not meet 1 condition",
        "20 cells differ from B1",
        "a revision needs its reason",
        "B2 is on the ladder",
        "read back equal",
        "5 Dyno",
        "B2 may be signed",
        "signed by Rowan Sedge",
        "Whole: every file is what its manifest names. Signed by key",
        "2 columns of evening-run.csv are in doubt",
        "evening-run is in the job, as evidence of A1",
        "injected faults: tired pump 40 %",
        "Torque for the gearbox, tag 42",
        "A2 (working)",
        "Whinchat, a1-evening.csv: 4 columns are in doubt",
        "Whinchat, dyno sheet: At the wheel, uncorrected: 118.",
        "Whinchat, 7 Checks: Cylinder 4 knocked again and again",
        "By file, 3 Maps: FR_Patrol, WHN20, 20.04: 21 entries can be used, 1 is left out",
        "By file, 3 Maps, roles: 7 of 7 are confirmed",
        "All that differs is as it was before: the write did not end",
        "equal in 20,224 bytes, 4,352 left aside",
        "By file, 8 Release: The gate is open: A2 may be signed",
        "4 Flash, vault: ",
        "Live log: B1 log ",
        "moments were missed (",
        f"Pictures: {tmp_path}",
        f"Release package: {tmp_path / 'ptarmigan-b2-release.zip'}",
    ):
        assert part in told, told
    pictures = sorted(tmp_path.glob("*.png"))
    assert len(pictures) == 35
    assert all(p.stat().st_size > 20_000 for p in pictures)
    v = verify_package(tmp_path / "ptarmigan-b2-release.zip")
    assert v.intact and v.manifest.revision == "B2" and v.manifest.simulated
    job = Job.open(tmp_path / "ptarmigan.yarvic")
    try:
        revision = job.revision("B2")
        assert revision.reason == "spark retarded where cylinder 2 knocked"
        assert revision.image == v.manifest.image_sha256
        assert job.releases()[-1].manifest_sha256 == v.manifest_sha256
        assert len([e for e in job.evidence() if e.revision_id == revision.id]) == 3
        assert job.drafts() == []
    finally:
        job.close()
