"""`python -m tests.state.reach.two_programs JOB FOLDER CHANNEL REVISION`: write a revision into the unit on a bus."""

import sys
from pathlib import Path

from yarvic.state.reach.interface import InterfaceReach
from yarvic.state.session import Session
from yarvic.state.settings import Settings
from yarvic.state.work import InlineRunner


def main() -> None:
    job, folder, channel, revision = sys.argv[1:]
    InterfaceReach.sleeps_s = 0.1
    session = Session(Settings(interface="virtual bus", channel=channel), InlineRunner())
    session.open_job(Path(job))
    errors = []
    session.failed.connect(errors.append)
    session.link.choose_way("by interface")
    session.link.reach().place = Path(folder)
    session.choose_working(session.job.revision(revision).id)
    print("ready", flush=True)
    sys.stdin.readline()
    session.link.write()
    print("; ".join(str(e) for e in errors) or "written", flush=True)
    session.close_job()


if __name__ == "__main__":
    main()
