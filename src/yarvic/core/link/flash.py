"""The flash sequence: identify, compare, back up, write what differs, read back, compare, restart."""

from __future__ import annotations

import contextlib
from collections.abc import Callable
from dataclasses import dataclass

from yarvic.core.calibration.image import changed_blocks, check_image, image_id
from yarvic.core.calibration.layout import Layout
from yarvic.core.errors import Cancelled, LinkError
from yarvic.core.link.unit import ControlUnit, Identity

# Writing draws current for minutes while the engine does not charge. Common practice, no published source.
LEAST_VOLTAGE_V = 12.2


@dataclass(frozen=True)
class Step:
    """Progress: the phase in words, the block it stands at, and how many of all blocks of this phase are done."""

    phase: str
    block: int | None
    done: int
    total: int


@dataclass(frozen=True)
class Flashed:
    """What a completed sequence did. `backup` is the memory as it was before."""

    identity: Identity
    backup: bytes
    image: str
    written: tuple[int, ...]


Report = Callable[[Step], None]
Asked = Callable[[], bool]


def read_memory(unit: ControlUnit, layout: Layout, report: Report, cancelled: Asked) -> bytes:
    """The whole calibration memory. Raises LinkError, or Cancelled when asked to."""
    total = layout.blocks
    blocks = []
    for index in range(total):
        if cancelled():
            raise Cancelled("reading was cancelled", remedy="The unit was not changed.")
        blocks.append(_whole(unit.read_block(index), _length(layout, index), index))
        report(Step("Reading", index, index + 1, total))
    return b"".join(blocks)


def flash(unit: ControlUnit, layout: Layout, image: bytes, report: Report, cancelled: Asked) -> Flashed:
    """Bring an image into the unit and prove it.

    Blocks that differ are written, the header's last, so that a unit interrupted in the middle knows that its memory
    is not whole; then all of the memory is read and compared. When asked to cancel, and on any error at all while the
    unit still answers, the blocks already written are put back from the backup. What listens to `report` cannot break
    a write: what it raises is dropped. Raises LinkError, CalibrationError for an image that does not fit, Cancelled.
    """
    report = _harmless(report)
    check_image(image, layout)
    identity = unit.identify()
    if (identity.family, identity.layout_version) != (layout.family, layout.version):
        raise LinkError(
            f"the unit is of family {identity.family!r} layout {identity.layout_version},"
            f" the image is for {layout.family!r} layout {layout.version}",
            concerns=identity.name,
            remedy="Nothing was written. Connect the unit that this job is about.",
        )
    voltage = unit.supply_voltage()
    if voltage < LEAST_VOLTAGE_V:
        raise LinkError(
            f"supply is {voltage:.1f} V, writing needs {LEAST_VOLTAGE_V:.1f} V",
            concerns=identity.name,
            remedy="Nothing was written. Put the battery on a maintainer.",
        )
    backup = read_memory(unit, layout, report, cancelled)
    order = sorted(changed_blocks(backup, image, layout.block), key=lambda i: (i == 0, i))
    done: list[int] = []
    try:
        for index in order:
            if cancelled():
                raise Cancelled("writing was cancelled", remedy="The unit holds what it held before.")
            done.append(index)
            unit.write_block(index, _block(image, layout.block, index))
            report(Step("Writing", index, len(done), len(order)))
        # All of it, not only what was written: somebody else may have written besides.
        total = layout.blocks
        for index in range(total):
            if _whole(unit.read_block(index), _length(layout, index), index) != _block(image, layout.block, index):
                raise LinkError(
                    f"block {index} reads back other than it was written",
                    concerns=identity.name,
                    remedy="The unit holds what it held before. Check supply and cable, then flash again.",
                )
            report(Step("Comparing", index, index + 1, total))
        unit.restart()
    except BaseException:
        _put_back(unit, layout, backup, done, report)
        raise
    return Flashed(identity, backup, image_id(image), tuple(order))


def _harmless(report: Report) -> Report:
    """A report whose listener cannot raise into the work."""

    def told(step: Step) -> None:
        # Whatever a listener does wrong, a unit must not be left half written for it.
        with contextlib.suppress(Exception):
            report(step)

    return told


def _put_back(unit: ControlUnit, layout: Layout, backup: bytes, written: list[int], report: Report) -> None:
    order = sorted(written, key=lambda i: (i == 0, i))
    try:
        for count, index in enumerate(order, 1):
            unit.write_block(index, _block(backup, layout.block, index))
            report(Step("Restoring", index, count, len(order)))
        unit.restart()
    except LinkError as error:
        raise LinkError(
            f"the unit stopped answering while its old memory was restored: {error.what}",
            concerns=error.concerns,
            remedy="Do not switch off. Restore the link and flash the parent revision again.",
        ) from error


def _block(data: bytes, size: int, index: int) -> bytes:
    return data[index * size : (index + 1) * size]


def _length(layout: Layout, index: int) -> int:
    """How many bytes a block has: the last may be shorter."""
    return min(layout.block, layout.length - index * layout.block)


def _whole(data: bytes, size: int, index: int) -> bytes:
    if len(data) != size:
        raise LinkError(
            f"block {index} came with {len(data)} bytes, not {size}", remedy="Check the cable; read again."
        )
    return data
