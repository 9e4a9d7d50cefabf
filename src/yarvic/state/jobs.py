"""Making job files."""

from __future__ import annotations

from pathlib import Path

from yarvic.core.errors import JobError
from yarvic.core.formats.files import file_name, make_folder
from yarvic.core.job.model import JobSheet
from yarvic.core.job.store import Job


def job_path(folder: Path, title: str) -> Path:
    """Where the job of this title is kept: its letters and digits, lower case."""
    return folder / f"{file_name(title) or 'job'}.yarvic"


def create_job(folder: Path, sheet: JobSheet, author: str) -> Path:
    """Create a job without maps; gives its file. Raises JobError when it is there already or
    cannot be written, FormatError when its folder cannot be made."""
    if not str(folder).strip() or not folder.is_absolute():
        raise JobError(f"{str(folder)!r} is no folder", remedy="Write it in full, from / on.")
    path = job_path(folder, sheet.title)
    if path.exists():
        raise JobError("a job of this name is there already", concerns=str(path), remedy="Choose another title.")
    make_folder(folder)
    Job.create(path, sheet, author=author).close()
    return path
