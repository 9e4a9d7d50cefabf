"""The demo jobs: which there are, and building those that are not there yet."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from yarvic.bench.vehicles import gearbox_image, layout_text, rating_image, ratings
from yarvic.core.formats.files import make_folder, write_whole
from yarvic.core.formats.images import image_to_hex
from yarvic.demo import outside
from yarvic.demo.fieldfare import FIELDFARE
from yarvic.demo.ptarmigan import PTARMIGAN
from yarvic.demo.story import DemoJob, Told
from yarvic.demo.wether import WETHER
from yarvic.demo.whinchat import WHINCHAT

DEMO_JOBS = (PTARMIGAN, WETHER, FIELDFARE, WHINCHAT)
RATED, GEARED = WETHER.name, PTARMIGAN.name
STRONGER = 1.2  # of the torque that the gearbox's stock image carries


def job_path(folder: Path, job: DemoJob) -> Path:
    """Where a demo job stands in a folder."""
    return folder / f"{job.name}.yarvic"


def build_missing(
    folder: Path,
    progress: Told = lambda share, what: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> list[Path]:
    """Build the demo jobs that a folder lacks; gives the paths of all. Raises Cancelled."""
    make_folder(folder)
    missing = [j for j in DEMO_JOBS if not job_path(folder, j).exists()]
    for number, job in enumerate(missing):

        def share(done: float, what: str, number: int = number) -> None:
            progress((number + done) / len(missing), what)

        job.build(job_path(folder, job), share, cancelled)
    _write_ratings(folder)
    _write_gearbox(folder)
    outside_files(folder)
    return [job_path(folder, j) for j in DEMO_JOBS]


def outside_files(folder: Path) -> list[Path]:
    """The logs and the dyno sheet of the wagon beside its job, to be dropped on the window; written where they lack."""
    place = folder / f"{WHINCHAT.name}-files"
    make_folder(place)
    found = [place / name for name in outside.FILES]
    for path in found:
        if not path.exists():
            write_whole(path, outside.shipped(path.name))
    return found


def _write_gearbox(folder: Path) -> None:
    """The memory of the buggy's gearbox unit: its description, what it came with, and an image that carries more torque."""
    files = {
        f"{GEARED}-gearbox.toml": layout_text(f"{GEARED}_gearbox"),
        f"{GEARED}-gearbox-stock.hex": image_to_hex(gearbox_image(GEARED)),
        f"{GEARED}-gearbox-strong.hex": image_to_hex(gearbox_image(GEARED, "Strong", STRONGER)),
    }
    for name, text in files.items():
        if not (folder / name).exists():
            write_whole(folder / name, text.encode("utf-8"))


def _write_ratings(folder: Path) -> None:
    """The ratings of the carrier's family as images, to be taken into a draft."""
    for key in ratings(RATED):
        path = folder / f"{RATED}-rating-{key.lower()}.hex"
        if not path.exists():
            write_whole(path, image_to_hex(rating_image(RATED, key)).encode("ascii"))
