"""Opening the demo jobs: the one that is asked for first, the others built beside."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from yarvic.core.errors import YarvicError
from yarvic.core.formats.files import make_folder
from yarvic.state.session import Session
from yarvic.state.settings import home
from yarvic.state.work import Asked, Progress, Runner


class Demos:
    """Builds what is missing where demo jobs are kept; `open_job` opens a file in the window."""

    def __init__(self, session: Session, runner: Runner, open_job: Callable[[Path], object]) -> None:
        self.session, self.runner, self.open_job = session, runner, open_job
        self._building = False  # the others, beside everything else
        self._wanted = ""  # what was asked for meanwhile

    def open(self, name: str) -> None:
        """Open a demo job, built first if it is not there; then build the others."""
        from yarvic.demo.jobs import DEMO_JOBS, job_path

        job = next(j for j in DEMO_JOBS if j.name == name)
        path = job_path(home() / "jobs", job)
        if path.exists():
            self.open_job(path)
            self._say_files(job.outside)
            self._build_others()
            return
        if self._building:
            # It would be built twice: it is opened as soon as the telling under way is done.
            self._wanted = name
            self.session.say("The demo jobs are being built: it opens as soon as they are there.")
            return

        def work(progress: Progress, cancelled: Asked) -> Path:
            make_folder(path.parent)
            job.build(path, progress, cancelled)
            return path

        def done(built: Path) -> None:
            self.open_job(built)
            self._build_others()
            self._say_files(job.outside)

        request = self.session.request("building the demo job")
        self.session.start(request, f"Building the demo job {job.title.partition(',')[0]}", work, done)

    def _say_files(self, outside: bool) -> None:
        """Where the files are that a vehicle from outside comes with."""
        if outside:
            from yarvic.demo.jobs import outside_files

            place = outside_files(home() / "jobs")[0].parent
            self.session.say(f"Its logs and its dyno sheet are in {place}: drop them on the window.")

    def _build_others(self) -> None:
        from yarvic.demo.jobs import DEMO_JOBS, build_missing, job_path

        folder = home() / "jobs"
        if self._building or all(job_path(folder, j).exists() for j in DEMO_JOBS):
            return
        self._building = True

        def ended(_: object) -> None:
            self._building = False
            wanted, self._wanted = self._wanted, ""
            if wanted:
                self.open(wanted)

        def failed(error: YarvicError) -> None:
            self._building, self._wanted = False, ""
            self.session.say(str(error))

        self.runner.run("Building the other demo jobs", lambda p, c: build_missing(folder, p, c), ended, failed)
