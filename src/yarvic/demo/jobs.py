"""The demo jobs: which there are, and building those that are not there yet."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Protocol

from yarvic.bench.vehicles import rating_image, ratings
from yarvic.core.formats.files import write_whole
from yarvic.core.formats.hex_image import image_to_hex
from yarvic.demo.fieldfare import build_fieldfare
from yarvic.demo.ptarmigan import build_ptarmigan
from yarvic.demo.story import Progress
from yarvic.demo.wether import build_wether


class Builder(Protocol):
    """Builds one job."""

    def __call__(self, path: Path, progress: Progress = ..., cancelled: Callable[[], bool] = ...) -> None: ...


RATED = "wether"


@dataclass(frozen=True)
class DemoJob:
    """A demo job: its file name without ending, what it is in words, and what builds it."""

    name: str
    title: str
    build: Builder


DEMO_JOBS = (
    DemoJob("ptarmigan", "Ptarmigan, rescue buggy, 1.4 turbo petrol", build_ptarmigan),
    DemoJob("wether", "Wether, supply carrier, 3.2 turbo diesel", build_wether),
    DemoJob("fieldfare", "Fieldfare, ice-race twin, 0.47 naturally aspirated", build_fieldfare),
)


def job_path(folder: Path, job: DemoJob) -> Path:
    """Where a demo job stands in a folder."""
    return folder / f"{job.name}.yarvic"


def build_missing(
    folder: Path,
    progress: Progress = lambda share, what: None,
    cancelled: Callable[[], bool] = lambda: False,
) -> list[Path]:
    """Build the demo jobs that a folder lacks; gives the paths of all. Raises Cancelled."""
    folder.mkdir(parents=True, exist_ok=True)
    missing = [j for j in DEMO_JOBS if not job_path(folder, j).exists()]
    for number, job in enumerate(missing):

        def share(done: float, what: str, number: int = number) -> None:
            progress((number + done) / len(missing), what)

        job.build(job_path(folder, job), share, cancelled)
    _write_ratings(folder)
    return [job_path(folder, j) for j in DEMO_JOBS]


def _write_ratings(folder: Path) -> None:
    """The ratings of the carrier's family as images, to be taken into a draft."""
    for key in ratings(RATED):
        path = folder / f"{RATED}-rating-{key.lower()}.hex"
        if not path.exists():
            write_whole(path, image_to_hex(rating_image(RATED, key)).encode("ascii"))
