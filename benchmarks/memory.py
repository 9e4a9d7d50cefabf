"""Descriptions of 10,000 characteristics, and images of 8 MiB."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np

from benchmarks.measuring import once, paired, row, timed

CHARACTERISTICS = 10_000
MIB = 1024 * 1024
BASE = 0x0010_0000
_TABLE_BYTES = 2 * (16 + 16 + 256)


def written(path: Path) -> Path:
    """A description of about 20 MB: values and maps, measurements and groups, and blocks that are passed over."""
    out = [
        'ASAP2_VERSION 1 71', '/begin PROJECT P ""', '/begin MODULE M ""',
        '/begin MOD_COMMON "" BYTE_ORDER MSB_LAST /end MOD_COMMON',
        "/begin RECORD_LAYOUT RM AXIS_PTS_X 1 UWORD INDEX_INCR DIRECT AXIS_PTS_Y 2 UWORD INDEX_INCR DIRECT"
        " FNC_VALUES 3 SWORD ROW_DIR DIRECT /end RECORD_LAYOUT",
        "/begin RECORD_LAYOUT RV FNC_VALUES 1 UWORD ROW_DIR DIRECT /end RECORD_LAYOUT",
    ]  # fmt: skip
    for n in range(400):
        out.append(f'/begin COMPU_METHOD cm{n} "" RAT_FUNC "%6.2" "kPa" COEFFS 0 {n + 1} 0 0 0 1 /end COMPU_METHOD')
    passed = "/begin IF_DATA X 100 /begin LINK " + "0x1F 0 " * 190 + "/end LINK /end IF_DATA"
    for n in range(3000):
        out.append(
            f'/begin MEASUREMENT m{n} "measured quantity {n}" UWORD cm{n % 400} 1 1 0 65535 ECU_ADDRESS 0x{n * 2:X} {passed}'
            " /end MEASUREMENT"
        )
    at = BASE
    for n in range(CHARACTERISTICS):
        head = f'/begin CHARACTERISTIC C{n} "a characteristic that is described in some words, number {n}"'
        if n % 3 == 0:
            out.append(f"{head} VALUE 0x{at:X} RV 0 cm{n % 400} 0 65535\n {passed}\n/end CHARACTERISTIC")
            at += 2
        else:
            axes = "\n".join(
                f"/begin AXIS_DESCR STD_AXIS m{(n * k) % 3000} cm{k} 16 0 65535 /end AXIS_DESCR" for k in (1, 7)
            )
            out.append(
                f"{head} MAP 0x{at:X} RM 0 cm{n % 400} -400 400\n{axes}\n {passed} /* c */\n/end CHARACTERISTIC"
            )
            at += _TABLE_BYTES
    for g in range(100):
        listed = " ".join(f"C{n}" for n in range(g, CHARACTERISTICS, 100))
        out.append(f'/begin GROUP G{g} "" ROOT /begin REF_CHARACTERISTIC {listed} /end REF_CHARACTERISTIC /end GROUP')
    path.write_text("\n".join([*out, "/end MODULE", "/end PROJECT"]))
    return path


def description() -> None:
    """Taking a description in, against reading and splitting its text."""
    from yarvic.core.formats.descriptions import read_description

    with tempfile.TemporaryDirectory() as folder:
        path = written(Path(folder) / "big.a2l")
        size = path.stat().st_size / 1e6
        ours, split, ratio = paired(lambda: read_description(path), lambda: path.read_text().split(), 3)
    row(
        f"description, {size:.0f} MB, {CHARACTERISTICS:,} entries", f"{ours:.1f} s", f"{split * 1e3:.0f} ms", ratio,
        "5 s, or 3 x split", ours <= 5.0 or ratio <= 3.0,
    )  # fmt: skip


def _layout():
    from yarvic.core.formats.descriptions import read_description

    with tempfile.TemporaryDirectory() as folder:
        layout, _ = read_description(written(Path(folder) / "big.a2l"))
    return layout


def finding() -> None:
    """Part of a name typed among 10,000: what fits, as the list shows it."""
    from yarvic.core.calibration.finding import Names

    names = Names(_layout())
    longest = max(
        timed(lambda text=text: names.search(text)) for text in ("", "c", "number 77", "kpa c12", "nothing")
    )
    row(
        f"found by part of a name among {CHARACTERISTICS:,}", f"{longest * 1e3:.0f} ms", "", longest / 0.05,
        "at most 50 ms", longest <= 0.05,
    )  # fmt: skip


def image() -> None:
    """An image of 8 MiB under that description: opened, an edit packed with its checksum, compared with the one before."""
    from yarvic.core.calibration.checksum import Checksum
    from yarvic.core.calibration.compare import compare_images
    from yarvic.core.calibration.edits import Edit
    from yarvic.core.calibration.image import open_image, sealed

    layout = _layout()
    size = 8 * MIB
    check = Checksum(kind="crc-32", ranges=((BASE, BASE + size - 4),), address=BASE + size - 4)
    layout = layout.changed(base=BASE, size=size, checksums=(check,))
    data = np.zeros(size, dtype=np.uint8)
    for entry in layout.entries:
        if entry.kind == "map":
            at = entry.address - BASE
            data[at : at + 64] = np.arange(32, dtype="<u2").view(np.uint8)
    memory = sealed(data.tobytes(), layout)
    maps = [e.key for e in layout.entries if e.kind == "map"]
    edits = [Edit("Maps", key, "x", ((3, 3),), (0.0,), (1.0,)) for key in maps[:: len(maps) // 20]]

    def work() -> None:
        before = open_image(memory, layout)
        after = open_image(before.with_edits(edits).sealed("A1"), layout)
        assert len(compare_images(before, after)["Maps"]) == len(edits)

    first = once(work)
    took = timed(work)
    row(
        f"image of 8 MiB opened, {len(edits)} edits packed, compared", f"{took * 1e3:.0f} ms", f"{first * 1e3:.0f} ms first",
        took / 0.1, "at most 100 ms", took <= 0.1,
    )  # fmt: skip
