"""What `yarvic diff` says: of two revisions of a job, or of two images."""

from __future__ import annotations

import math
from pathlib import Path
from typing import Any

from yarvic.cli_words import print_json, tell


def diff_revisions(path: Path, one: str, other: str, as_json: bool) -> bool:
    """Say what differs between two revisions, table by table; whether nothing does."""
    from yarvic.core.calibration.compare import compare_images
    from yarvic.core.calibration.image import open_image
    from yarvic.core.job.store import Job

    job = Job.open(path, read_only=True)
    try:
        before, after = (open_image(job.image(job.revision(n).image), job.layout, source=n) for n in (one, other))
        found = compare_images(before, after)
    finally:
        job.close()
    if as_json:
        print_json(
            {
                "job": str(path),
                "from": one,
                "to": other,
                "slots": {
                    slot: [
                        {
                            "key": d.key, "title": d.title, "unit": d.unit, "cells": d.cells,
                            "least": _known(d.least), "greatest": _known(d.greatest), "axes_moved": d.axes,
                            **({"text_from": d.texts[0], "text_to": d.texts[1]} if d.texts is not None else {}),
                        }
                        for d in listed
                    ]
                    for slot, listed in found.items()
                },
            }
        )  # fmt: skip
    else:
        for slot, listed in found.items():
            for d in listed:
                tell(f"{slot}: {d.sentence()}" if len(found) > 1 else d.sentence())
        if not any(found.values()):
            tell(f"{one} and {other} hold the same maps.")
    return not any(found.values())


def _known(value: float) -> float | None:
    return round(value, 9) if math.isfinite(value) else None


def diff_images(one: Path, other: Path, as_json: bool, checksums: bool) -> bool:
    """Say what differs between two images, byte by byte, and what a checksum covers; whether nothing differs."""
    from yarvic.core.formats.image_comparison import checksums_of_files, compare_images_of_files
    from yarvic.core.formats.images import read_image

    files = read_image(one), read_image(other)
    found = compare_images_of_files(*files)
    sums = checksums_of_files(*files, lambda share: None, lambda: False) if checksums else ()
    if as_json:
        document: dict[str, Any] = {
            "one": found.one,
            "other": found.other,
            "compared": found.compared,
            "bytes_differ": found.bytes_differ,
            "differs": [
                {"start": r.start, "end": r.end, "one": r.one.hex(), "other": r.other.hex()} for r in found.differs
            ],
            "only": [{"image": name, "start": a, "end": b} for name, a, b in found.only],
        }
        if checksums:
            document["checksums"] = [c.checksum.model_dump() | {"confidence": round(c.confidence, 3)} for c in sums]
        print_json(document)
    else:
        tell(found.headline())
        for r in found.differs:
            tell(f"  {r.sentence()}")
        for name, start, end in found.only:
            tell(f"  0x{start:X} to 0x{end - 1:X}: in {name} alone")
        for each in sums:
            for line in (each.sentence(), *each.toml().splitlines()):
                tell(line)
        if checksums and not sums:
            tell("No checksum was told by these two.")
    return found.equal
