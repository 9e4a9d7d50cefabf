"""What is damaged: for each reader of the registry some whole files, and what is done with one that is accepted."""

import importlib
import pkgutil
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date
from functools import cache
from pathlib import Path

import yarvic
from yarvic.core.reading import READERS

from .second_reading import disagreement

Read = Callable[[Path], object]
# What belongs to no reader: windows, and what only runs as a program.
_NOT_IMPORTED = ("yarvic.desk", "yarvic.cli")


@dataclass(frozen=True)
class Target:
    """`seeds` are whole files; `read` reads one and uses what it holds; `changes` says whether content may not change
    unseen: then what it returns is compared with what the whole files give.
    """

    seeds: tuple[bytes, ...]
    read: Read


def every_reader():
    """The registry, with every module of the program read that could add to it."""
    for module in pkgutil.walk_packages(yarvic.__path__, "yarvic."):
        if not module.name.startswith(_NOT_IMPORTED):
            importlib.import_module(module.name)
    return READERS


@cache
def targets() -> dict[str, Target]:
    """By the reader's key. A reader without a target fails the suite: a new format cannot be forgotten."""
    return {
        "log": Target((*_logs(), *_packed_logs()), _read_log),
        "log or sheet": Target(_sheets(), _read_sheet),
        "mapping": Target((_MAPPING,), READERS["mapping"].read),
        "channel names": Target((_NAMES,), READERS["channel names"].read),
        "image": Target(_images(), _read_image),
        "layout": Target(_layouts(), _read_layout),
        "description": Target((_description(),), _read_description),
        "limits": Target(
            (_shipped("yarvic.core.checks", "limits").partition(b"# Where a shop")[0], _LIMITS), _read_limits
        ),
        "job sheet": Target((_sheet(),), READERS["job sheet"].read),
        "library": Target((_shipped("yarvic.core.plan", "library"),), READERS["library"].read),
        "settings": Target((_settings(),), READERS["settings"].read),
        "job": Target((_job(),), _read_job),
        "release package": Target((_package(True), _package(False)), _read_package),
        "signing key": Target(_private(), _read_private),
        "public key": Target((_public(),), READERS["public key"].read),
        "witness": Target((_witness(),), READERS["witness"].read),
        "known keys": Target((_known(),), READERS["known keys"].read),
        "tables-json": Target((_tables("json"),), _read_tables("tables-json")),
        "tables-csv": Target((_tables("csv"),), _read_tables("tables-csv")),
        "tables-xlsx": Target((_tables("xlsx"),), _read_tables("tables-xlsx")),
    }


def _shipped(package, name):
    from importlib.resources import files

    return files(package).joinpath(f"data/{name}.toml").read_bytes()


_LIMITS = b"""[knock_retard]
title = "Knock retard"
quantity = "angle"
unit = "deg"
side = "above"
watch = 1.6
stop = 3.0
source = "shop"
[sensor]
lambda_low = 0.6
"""


def _sheets():
    """Dyno sheets: one in a workbook, runs beside and below each other, road speed, with weather above."""
    import tempfile

    from tests.core.formats.sheets import write
    from yarvic.demo import outside

    with tempfile.TemporaryDirectory() as folder:
        drawn = tuple(write(Path(folder), seed)[0].read_bytes() for seed in (3, 8, 21, 40))
    road = b"Barometer: 1004 mbar\nRatio: 42 rpm per km/h\nspeed [km/h];wheel power [kW]\n" + b"".join(
        f"{40 + n};{20 + n}\n".encode() for n in range(60)
    )
    return (*drawn, road, outside.shipped(outside.SHEET))


def _read_sheet(path):
    from yarvic.core.errors import EvidenceError, UnitError
    from yarvic.core.evidence.sheet.curve import sheet_curve, sheet_fault, sheet_questions
    from yarvic.core.formats.logs.import_log import read_file

    for run in read_file(path):
        if run.raw.sheet:
            said, columns = run.understood.curve, run.understood.columns
            log = run.log(run.understood)
            if not sheet_questions(log, said) and not sheet_fault(log, said, columns, run.said.conditions):
                try:
                    sheet_curve(log, said, columns, run.said.conditions)
                except (EvidenceError, UnitError):
                    continue


def _logs():
    import numpy as np

    t = np.arange(0.0, 12.0, 0.05)
    speed = np.clip(1800.0 + 400.0 * t, None, 6000.0)
    rows = [
        f"{a:.2f},{b:.0f},100,{0.92 + 0.01 * np.sin(a):.3f},{180 + a:.1f},{2.0 if b > 4000 else 0.0},900"
        for a, b in zip(t, speed, strict=True)
    ]
    head = "time [s],RPM [rpm],Throttle [%],Lambda [lambda],Boost [kPa abs],Knock retard cyl 2 [deg],EGT [degC]"
    one = "\n".join([head, *rows]) + "\n"
    other = one.replace(",", ";").replace(".", ",")
    return one.encode(), other.encode("latin-1"), b"time;RPM\ns;rpm\n0,1;1000\n0,2;1100\n"


def _packed_logs():
    """The same in other clothes: packed, in columns, in a workbook, in the ASAM format."""
    import gzip
    import io
    import zipfile

    import openpyxl
    import polars as pl
    from asammdf import MDF, Signal

    text = _logs()[0]
    out = [gzip.compress(text)]
    buffer = io.BytesIO()
    with zipfile.ZipFile(buffer, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("one.csv", text)
        archive.writestr("two.csv", text[:3000])
    out.append(buffer.getvalue())
    frame = pl.read_csv(text)
    buffer = io.BytesIO()
    frame.write_parquet(buffer)
    out.append(buffer.getvalue())
    book = openpyxl.Workbook()
    book.active.append(frame.columns)
    for row in frame.head(40).iter_rows():
        book.active.append(row)
    buffer = io.BytesIO()
    book.save(buffer)
    out.append(buffer.getvalue())
    with MDF(version="4.10") as file, tempfile.TemporaryDirectory() as folder:
        times = frame["time [s]"].to_numpy()
        file.append([Signal(frame["RPM [rpm]"].cast(pl.Float64).to_numpy(), times, unit="rpm", name="RPM")])
        out.append(Path(file.save(Path(folder) / "a.mf4")).read_bytes())
    return (*out, _rich_mdf())


def _rich_mdf():
    """An MDF with several groups, packed records in a list, words for numbers, texts, bits of validity and a matrix."""
    import numpy as np
    from asammdf import MDF, Signal
    from asammdf.blocks import v4_blocks as v4

    times, slow = np.arange(0.0, 20.0, 0.01), np.arange(0.0, 20.0, 0.1)
    words = v4.ChannelConversion(
        conversion_type=v4.v4c.CONVERSION_TYPE_TABX, links_nr=4 + 3, ref_param_nr=3, val_param_nr=2,
        val_0=0, val_1=1, text_0=b"N", text_1=b"D", default=b"?",
    )  # fmt: skip
    rows = np.stack([np.sin(slow), np.cos(slow)], axis=1)
    with MDF(version="4.10") as file, tempfile.TemporaryDirectory() as folder:
        file.append([
            Signal(1500.0 + 200.0 * times, times, unit="rpm", name="RPM"),
            Signal((times % 3 > 1).astype("u1"), times, name="Gear", conversion=words),
            Signal(100.0 + times, times, unit="kPa", name="MAP", invalidation_bits=times > 18.0),
        ])  # fmt: skip
        file.append([Signal(np.array([b"a", b"bc"] * (slow.size // 2)), slow, name="Words", encoding="latin-1")])
        file.append([Signal(rows, slow, name="Matrix")])
        return Path(file.save(Path(folder) / "b.mf4", compression=2)).read_bytes()


_MAPPING = b"""kind = "yarvic mapping"
version = 1
title = "logger of the buggy"
fingerprint = "00ff"
[[columns]]
name = "Boost"
header_unit = "psi"
channel = "boost_pressure"
unit = "psi"
reference = "gauge"
how = "confirmed"
"""
_NAMES = b"""[boost_pressure]
names.en = ["shop boost"]
[spark_correction]
counted_down.en = ["shop pull"]
"""


def _read_log(path):
    from yarvic.core.checks.limits import default_limits
    from yarvic.core.checks.run import check_log, summarize
    from yarvic.core.evidence.mapping import Facts
    from yarvic.core.evidence.problems import problems
    from yarvic.core.formats.csv_log import write_csv_log
    from yarvic.core.formats.logs.import_log import import_logs
    from yarvic.core.formats.mapping_file import mapping_to_toml, parse_mapping

    taken = import_logs(path, facts=Facts(stoichiometric_afr=14.7))
    assert not (wrong := disagreement(path)), wrong
    for found in taken:
        problems(found.log)
        summarize([list(r.findings) for r in check_log(path.name, found.log, default_limits())])
        write_csv_log(found.log)
        assert parse_mapping(mapping_to_toml(found.mapping), source="again") == found.mapping


def _layouts():
    from yarvic.bench.vehicles import VEHICLES, layout_text
    from yarvic.core.calibration.layout_file import parse_layout
    from yarvic.demo import outside

    kept = parse_layout(layout_text("ptarmigan")).to_json()
    own = outside.shipped(outside.COMPANION).replace(
        b'description = "whinchat.a2l"', b'family = "f"\nbyte_order = "big"'
    )
    return (*(layout_text(name).encode() for name in VEHICLES), own, kept.encode())


def _read_layout(path):
    from yarvic.core.calibration.image import pack, unpack
    from yarvic.core.calibration.layout_file import parse_layout, read_layout
    from yarvic.core.errors import CalibrationError

    head = path.read_bytes()
    if head.lstrip()[:1] == b"{":
        layout = parse_layout(head.decode("utf-8", errors="replace"))  # as a job keeps it
    else:
        layout, _ = read_layout(path)
    if layout.size is None:
        return
    image = bytearray(layout.length)
    try:
        pack({s: unpack(bytes(image), layout, s) for s in layout.sets}, layout, "x")
    except CalibrationError:
        return


def _description():
    from yarvic.demo import outside

    return outside.shipped(outside.DESCRIPTION)


def _read_description(path):
    from yarvic.core.calibration.faults import of_image
    from yarvic.core.formats.descriptions import document
    from yarvic.core.reading import READERS
    from yarvic.demo import outside

    layout, faults = READERS["description"].read(path)
    assert all(f.sentence() for f in faults)
    document(layout, tuple(faults), ())
    of_image(layout.changed(base=0x80040000, size=0x6000, gaps=()), outside.taken().data, "image")


def _images():
    from yarvic.bench.vehicles import stock_image
    from yarvic.core.formats.images import image_to_hex, to_text

    image = stock_image("fieldfare")
    return image, image_to_hex(image).encode(), to_text(image, "srec")


def _read_image(path):
    from yarvic.bench.vehicles import layout_text
    from yarvic.core.calibration.image import unpack
    from yarvic.core.calibration.layout_file import parse_layout
    from yarvic.core.formats.images import in_memory, read_image

    layout = parse_layout(layout_text("fieldfare"))
    data = in_memory(read_image(path), layout)
    for slot in layout.sets:
        unpack(data, layout, slot)


def _read_limits(path):
    from yarvic.core.checks.limits import default_limits, read_limits

    found, shipped = read_limits(path), default_limits()
    for key, rule in found.rules.items():
        usual = shipped.rules[key]
        order = (rule.watch_canonical, rule.stop_canonical)
        assert rule.side == usual.side and (order[0] <= order[1]) == (rule.side == "above" or order[0] == order[1])


def _sheet():
    from yarvic.core.job.template import to_toml
    from yarvic.demo.ptarmigan import PTARMIGAN

    return to_toml(PTARMIGAN.sheet()).encode()


def _settings():
    from yarvic.state.settings import Settings

    return Settings(author="Rowan Sedge", last_job="/x/y.yarvic").model_dump_json(indent=1).encode()


@cache
def _maps():
    """A small set of maps, as an image under its layout."""
    from yarvic.bench.vehicles import layout_text, stock_image
    from yarvic.core.calibration.image import Image
    from yarvic.core.calibration.layout_file import parse_layout

    return Image(parse_layout(layout_text("fieldfare")), stock_image("fieldfare"))


def _tables(form):
    from yarvic.core.formats.tables import tables_to_csv, tables_to_json
    from yarvic.core.formats.tables_xlsx import tables_to_xlsx

    image, keys = _maps(), ["lambda_target", "rev_limit"]
    slots = image.layout.sets[:1]
    if form == "xlsx":
        return tables_to_xlsx(image, "A1", slots, keys)
    return (tables_to_csv(image, slots, keys) if form == "csv" else tables_to_json(image, "A1", slots, keys)).encode()


def _read_tables(key):
    def read(path):
        from yarvic.core.formats.tables import edits_from

        image = _maps()
        return image.with_edits(edits_from(image, READERS[key].read(path), "fuzz")).data

    return read


@cache
def _job():
    """A small job with a run, a waiver, a release and a draft, made here: no pull is simulated for it."""
    import numpy as np

    from yarvic.bench.vehicles import layout_text, stock_image
    from yarvic.core.calibration.edits import Edit
    from yarvic.core.evidence.log import Channel, Log
    from yarvic.core.job.store import Job
    from yarvic.demo.fieldfare import FIELDFARE

    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "a.yarvic"
        job = Job.create(
            path, FIELDFARE.sheet(), layout_text("fieldfare"), stock_image("fieldfare"), author="Rowan Sedge"
        )
        t = np.arange(0.0, 5.0, 0.01)
        log = Log({k: Channel(k, k, "engine speed", "rpm", t, 1000.0 + t) for k in ("engine_speed", "more")})
        job.add_evidence("pull 1", 1, log, None, source="test")
        job.fit("another exhaust", {"exhaust": "another"})
        job.waive(1, "pulls", "Rowan Sedge", "one was enough")
        job.record_flash(1, "unit", job.revisions()[0].image, 3)
        job.record_release(1, "Rowan Sedge", "ab" * 32, "a.zip")
        slot = job.layout.sets[0]
        key = job.layout.entries[0].key
        job.begin_draft(1, [[Edit(slot, key, "one cell", ((0, 0),), (1.0,), (1.0,))]])
        job.close()
        return path.read_bytes()


def _read_job(path):
    from yarvic.core.errors import YarvicError
    from yarvic.core.job.file import verify
    from yarvic.state.opened import load

    faults = list(verify(path).faults)
    loaded = load(path)
    job = loaded.job
    try:
        job.journal()
        for revision in job.revisions():
            for read in (lambda r=revision: job.edits(r.id), lambda r=revision: job.image(r.image)):
                try:
                    read()
                except YarvicError as error:
                    faults.append(error.what)
        for run in job.evidence():
            try:
                job.log(run.id)
            except YarvicError as error:
                faults.append(error.what)
        if faults:
            raise faults_of(path, faults)
        return job.sheet, job.builds(), job.revisions(), job.evidence(), job.flashes(), job.releases(), job.journal()
    finally:
        job.close()


def faults_of(path, faults):
    """What was found, as the error that it is for whoever relies on the file."""
    from yarvic.core.errors import JobError

    return JobError("; ".join(faults), concerns=str(path), remedy="Restore it from a copy.")


def _key():
    from yarvic.core.release.keys import of_seed

    return of_seed(bytes(range(32)), "Rowan Sedge", date(2026, 1, 1))


@cache
def _package(signed):
    from yarvic.bench.vehicles import stock_image
    from yarvic.core.calibration.image import image_id
    from yarvic.core.formats.images import image_to_hex
    from yarvic.core.release.package import build_package

    image = stock_image("fieldfare")
    facts = {
        "job": "Fieldfare", "vehicle": "Fieldfare", "family": "fieldfare-47", "revision": "A1", "reason": "why",
        "build": "1", "author": "a", "signed_by": "Rowan Sedge", "time": "2026-03-01T00:00:00+00:00",
        "image_sha256": image_id(image), "image_size": len(image), "simulated": True, "waivers": [],
        "history": {"lines": 1, "sha256": "ab" * 32},
    }  # fmt: skip

    facts["family"] = "ptarmigan-14"
    files = {"image.hex": image_to_hex(image).encode(), "evidence.json": b"{}", "customer-sheet.pdf": b"%PDF"}
    return build_package(files, facts, _key() if signed else None).data


def _read_package(path):
    from yarvic.core.errors import ReleaseError
    from yarvic.core.release.keys import KnownKeys
    from yarvic.core.release.package import verify_package, whose

    v = verify_package(path)
    whose(v.signature, v.manifest, KnownKeys())
    if not v.intact:
        raise ReleaseError("; ".join(v.faults), concerns=str(path), remedy="Ask for it again.")
    return path.read_bytes()


def _private():
    """The same key twice: open, and locked by a passphrase."""
    from cryptography.hazmat.primitives import serialization as s

    key, form = _key().private, (s.Encoding.PEM, s.PrivateFormat.PKCS8)
    return key.private_bytes(*form, s.NoEncryption()), key.private_bytes(*form, s.BestAvailableEncryption(b"secret"))


def _read_private(path):
    from yarvic.core.release.keys import is_locked, public_path, read_key

    path.chmod(0o600)
    public_path(path).write_bytes(_public())
    return read_key(path, "secret" if is_locked(path) else "")


def _public():
    from yarvic.core.release.keys import to_toml

    return to_toml(_key().public)


def _witness():
    return "".join(
        f"yarvic-witness-1 {'ab' * 32} {n} {'cd' * 32} 2026-03-01T00:00:00+00:00\n" for n in (3, 9)
    ).encode()


def _known():
    from yarvic.core.release.keys import KnownKeys, to_toml

    day = date(2026, 1, 1)
    return to_toml(KnownKeys().added(_key().public, day).revoked(_key().public.key, "lost", day))
