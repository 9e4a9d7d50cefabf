"""Killed at a random moment: what was reported is there, the job opens and fits, and nothing is left that blocks.

`python -m tests.fuzz.kills COUNT` does it so often; the suite does it a few times.
"""

import os
import random
import signal
import sys
import tempfile
import time
from pathlib import Path

from .targets import _job

OLD = sorted((Path(__file__).parents[1] / "data/old_jobs").glob("*.yarvic"))
ACTS = (
    "edit",
    "commit",
    "image",
    "run",
    "bring",
    "assign",
    "flash",
    "carry",
    "sheet",
    "part",
    "waiver",
    "release",
    "migrate",
    "create",
    "pull",
    "export",
)
# What may stand beside the jobs: packages, exports, SQLite's journal of a commit that was cut off, the test's own copies.
EXPECTED = (".yarvic", ".zip", ".toml", ".hex", ".yarvic-journal", ".copy")


class Worker:
    """Acts on jobs in a folder, one after another; each says what it did once it is done."""

    def __init__(self, folder, seed, tell):
        from yarvic.core.job.store import Job

        self.folder, self.r, self.tell = folder, random.Random(seed), tell
        self.job = Job.open(folder / "a.yarvic")
        self.count = 0

    def act(self):
        kind = self.r.choice(ACTS)
        self.count += 1
        self.tell(f"{kind} {getattr(self, kind)()}\n")

    def _steps(self):
        return len(self.job.steps(self.job.drafts()[0].id)) if self.job.drafts() else 0

    def edit(self):
        from yarvic.core.calibration.edits import Edit

        layout, steps = self.job.layout, self._steps()
        edit = Edit(layout.sets[0], layout.entries[0].key, f"e{self.count}", ((0, 0),), (1.0,), (1.0,))
        if self.job.drafts():
            self.job.add_step(self.job.drafts()[0].id, steps, [edit])
        else:
            self.job.begin_draft(self.job.revisions()[-1].id, [[edit]])
        return steps + 1

    def _commit(self, drop):
        from yarvic.core.calibration.image import pack, unpack

        job, name = self.job, self.job.next_name()
        stock = job.image(job.revisions()[0].image)
        maps = {s: unpack(stock, job.layout, s) for s in job.layout.sets}
        image = pack(maps, job.layout, f"{name} {self.count}", stock)
        draft = job.drafts()[0].id if drop and job.drafts() else None
        return job.commit_revision(name, 1, "why", "Rowan Sedge", image, (), drop_draft=draft).name

    def commit(self):
        return self._commit(True)

    def image(self):
        return self._commit(False)

    def run(self):
        import numpy as np

        from yarvic.core.evidence.log import Channel, Log

        t = np.arange(0.0, self.r.choice((1.0, 50.0)), 0.01)
        log = Log({"engine_speed": Channel("engine_speed", "Engine speed", "engine speed", "rpm", t, t + self.count)})
        return self.job.add_evidence(f"run {self.count}", 1, log, None, source="test").id

    def bring(self):
        """A log from outside, of several columns, as it stood in its file."""
        import numpy as np

        from yarvic.core.evidence.origin import Origin, Reading
        from yarvic.core.evidence.raw import RawColumn, RawLog
        from yarvic.core.evidence.taking import understand
        from yarvic.core.job.runs import NewRun

        t = np.arange(2000.0) / 50.0
        columns = [RawColumn(n, u, 900.0 + t, n) for n, u in (("RPM", "rpm"), ("TPS", "%"), ("Cup holder", ""))]
        raw = RawLog(columns, RawColumn("time", "s", t, "time"))
        reading = Reading(mapping=understand(raw).mapping(raw, "test"))
        origin = Origin(name=f"log {self.count}.csv", sha256="ab" * 32, size=1000)
        return self.job.add_runs([NewRun(f"log {self.count}", raw, None, origin, reading)], None, source="file")[0].id

    def assign(self):
        from yarvic.core.evidence.origin import Assigned

        waiting = self.job.runs_of(None)
        if not waiting:
            return "none"
        self.job.say_of([(waiting[0].id, "assigned", Assigned(revision_id=1, build=1))], "assigned")
        return waiting[0].id

    def pull(self):
        """One pull of a run from outside, and its conditions, said in one."""
        from yarvic.core.evidence.conditions import Conditions
        from yarvic.core.evidence.origin import PullAssigned

        outside = [e for e in self.job.evidence() if e.origin is not None]
        if not outside:
            return "none"
        run, air = self.r.choice(outside).id, Conditions(simulated=False, temperature_k=290.0 + self.count % 9)
        place = PullAssigned(pull=self.count, revision_id=1, build=1)
        self.job.say_of([(run, "pull_assigned", place), (run, "conditions", air)], "a pull belongs elsewhere")
        return run

    def flash(self):
        self.job.record_flash(1, "unit", self.job.revisions()[0].image, self.count)
        return len(self.job.flashes())

    def carry(self):
        """An image out by file, and the record that it went."""
        from yarvic.core.formats.images import write_image
        from yarvic.core.job.model import Carriage

        job, layout = self.job, self.job.layout
        path = self.folder / f"out-{self.count % 3}.hex"
        write_image(path, job.image(job.revisions()[0].image), "hex", layout.base, layout.gaps)
        job.record_carried(1, "exported", "Rowan Sedge", Carriage(file=path.name, form="hex"), f"out {self.count}")
        return len(job.carried())

    def sheet(self):
        self.job.save_sheet(self.job.sheet.changed(shop=f"shop {self.count}"), "another shop")
        return f"shop {self.count}"

    def part(self):
        return self.job.fit(f"part {self.count}", {"exhaust": f"{self.count}"}).number

    def waiver(self):
        return self.job.waive(1, f"condition {self.count}", "Rowan Sedge", "why").condition

    def release(self):
        import hashlib

        from yarvic.core.release.package import write_package

        open_to = {r.id for r in self.job.revisions()} - {r.revision_id for r in self.job.releases()}
        if not open_to:
            return "none"
        name = f"package-{self.count}-{os.getpid()}.zip"
        data = os.urandom(200_000)
        write_package(self.folder / name, data)
        self.job.record_release(min(open_to), "Rowan Sedge", hashlib.sha256(data).hexdigest(), name)
        return name

    def migrate(self):
        from yarvic.core.job.store import Job

        path = self.folder / f"old-{self.count}-{os.getpid()}.yarvic"
        # The copy itself is the test's own: a kill in the middle of it says nothing of Yarvic.
        copy = path.with_suffix(".copy")
        copy.write_bytes(self.r.choice(OLD).read_bytes())
        copy.replace(path)
        Job.open(path).close()
        return path.name

    def create(self):
        from yarvic.core.job.store import Job

        path = self.folder / f"new-{self.count}-{os.getpid()}.yarvic"
        Job.create(path, self.job.sheet, author="Rowan Sedge").close()
        return path.name

    def export(self):
        from yarvic.core.job.template import write_sheet

        path = self.folder / "sheet.toml"  # written anew, in place of the one before
        write_sheet(self.job.sheet, path)
        return path.name


def once(folder: Path, seed: int) -> tuple[str, int]:
    """One kill; gives what is wrong after it (empty when nothing is), and how many acts were reported before."""
    out, into = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(out)
        try:
            worker = Worker(folder, seed, lambda line: os.write(into, line.encode()))
            while True:
                worker.act()
        except BaseException as error:  # noqa: BLE001 - the child must not come back into the suite
            os.write(into, f"failed {type(error).__name__}: {error}\n".encode())
        finally:
            os._exit(0)
    os.close(into)
    time.sleep(random.Random(seed).uniform(0.0, 0.35))
    os.kill(child, signal.SIGKILL)
    os.waitpid(child, 0)
    with os.fdopen(out, "rb") as pipe:
        told = [line.split(" ", 1) for line in pipe.read().decode().splitlines()]
    return after(folder, told), len(told)


def after(folder: Path, told: list[list[str]]) -> str:
    """What is wrong with a folder after a kill, by what was reported before."""
    from yarvic.core.job.store import Job

    job = Job.open(folder / "a.yarvic")
    try:
        for run in job.evidence():
            job.log(run.id)
        there = {
            "commit": {r.name for r in job.revisions()}, "image": {r.name for r in job.revisions()},
            "run": {e.id for e in job.evidence()}, "bring": {e.id for e in job.evidence() if e.origin is not None},
            "assign": {e.id for e in job.runs_of(1)} | {"none"}, "part": {str(b.number) for b in job.builds()},
            "carry": {str(n) for n in range(1, len(job.carried()) + 1)},
            "flash": {str(n) for n in range(1, len(job.flashes()) + 1)},
            "pull": {e.id for e in job.evidence() if e.conditions is not None} | {"none"},
            "waiver": {w.condition for w in job.waivers(1)}, "release": {r.package for r in job.releases()} | {"none"},
        }  # fmt: skip
        for kind, what in told:
            if kind == "failed":
                return f"an act failed: {what}"
            if kind in there and what not in there[kind]:
                return f"{kind} {what} was reported and is lost"
        for run in job.evidence():
            job.log(run.id)
        for revision in job.revisions():
            job.image(revision.image)
        last = [(k, w) for k, w in told if k in ("edit", "commit")][-1:]
        steps = max((len(job.steps(d.id)) for d in job.drafts()), default=0)
        if last and last[0][0] == "edit" and steps < int(last[0][1]) and steps != 0:
            return f"a step of the draft is lost: {last[0][1]} reported, {steps} there"
    finally:
        job.close()
    return files_after(folder)


def files_after(folder: Path) -> str:
    """What is wrong with the files of a folder after a kill: each is whole, and nothing else is there."""
    from yarvic.core.formats.images import read_image
    from yarvic.core.job.file import verify
    from yarvic.core.job.store import Job
    from yarvic.core.job.template import read_sheet

    for path in sorted(folder.iterdir()):
        if path.suffix == ".yarvic":
            Job.open(path).close()
            faults = verify(path).faults
            if faults:
                return f"{path.name}: {faults[0]}"
        elif path.suffix == ".toml":
            read_sheet(path)
        elif path.suffix == ".hex":
            read_image(path)
    left = [p.name for p in folder.iterdir() if p.suffix not in EXPECTED or p.name.endswith("-journal")]
    return f"left behind: {left}" if left else ""


def campaign(count: int, seed: int = 0) -> tuple[int, int, list[str]]:
    """So many kills, each on what the one before left; gives kills, acts that were reported, and what went wrong."""
    wrong, acts = [], 0
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        for n in range(count):
            if n % 25 == 0:
                for old in folder.iterdir():
                    old.unlink()
                (folder / "a.yarvic").write_bytes(_job())
            fault, done = once(folder, seed + n)
            acts += done
            if fault:
                wrong.append(f"seed {seed + n}: {fault}")
                print(wrong[-1], flush=True)
                for old in folder.iterdir():
                    old.unlink()
                (folder / "a.yarvic").write_bytes(_job())
    return count, acts, wrong


if __name__ == "__main__":
    kills, acts, wrong = campaign(int(sys.argv[1]) if len(sys.argv) > 1 else 1000)
    print(f"{kills:,} kills, {acts:,} acts reported before them, {len(wrong)} went wrong")
    sys.exit(1 if wrong else 0)
