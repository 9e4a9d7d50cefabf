"""`python -m tests.desk.closing KIND JOB FILE`: begin work of a kind in the desk, and close the window in the middle."""

import sys
from pathlib import Path

from PyQt6.QtCore import QTimer

from yarvic.core.link.journal import JOURNALS, unfinished
from yarvic.desk import app as desk
from yarvic.desk.window import Window

MIDDLE_MS = 400


def begin(window: Window, kind: str, job: Path, file: Path) -> None:
    s = window.session
    if kind == "import":
        window.arrivals.open(file, opened=window.open_import, ended=lambda: None)
    elif kind == "search":
        window.open_searching()
        window.view("searching").state.look(file)
    elif kind == "pull":
        s.go("dyno")
        s.pull(20)
    elif kind == "demo":
        window.open_demo("wether")
    elif kind == "verify":
        s.go("release")
        window.view("release").verify(job)
    elif kind == "write":
        s.choose_working(s.job.revision("A1").id)  # the unit holds another
        s.go("flash")
        s.bench.unit.seconds_per_block = 0.1
        s.link.write()


def in_the_middle(window: Window, kind: str) -> bool:
    """Whether enough has been done that something is left behind: of a write, a sector is erased."""
    if kind != "write":
        return True
    left = unfinished(window.session.link.reach().vault_folder / JOURNALS)
    return any(entry.when == "after" for journal in left for entry in journal.entries)


def main() -> None:
    kind, job, file = sys.argv[1], Path(sys.argv[2]), Path(sys.argv[3])
    made: list[Window] = []
    usual = desk.make_window

    def make_window() -> Window:
        made.append(usual())
        QTimer.singleShot(0, wait)
        return made[0]

    def wait() -> None:
        s = made[0].session
        if s.job is None or (kind != "open" and not s.bench_ready):
            QTimer.singleShot(20, wait)
            return
        begin(made[0], kind, job, file)
        QTimer.singleShot(MIDDLE_MS, close)

    def close() -> None:
        if not in_the_middle(made[0], kind):
            assert made[0].session.link.writing, "it ended before it was in its middle"
            QTimer.singleShot(20, close)
            return
        print("at work" if made[0].runner.at_work() else "idle", flush=True)
        made[0].close()
        if kind == "write":  # over a write it takes a second time
            QTimer.singleShot(MIDDLE_MS, made[0].close)

    desk.make_window = make_window
    sys.exit(desk.run(job))


if __name__ == "__main__":
    main()
