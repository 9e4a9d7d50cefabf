"""The command line. Exit 0: pass or watch. 1: stop. 2: input that cannot be used. 3: no data."""

from __future__ import annotations

import io
import os
import sys
import traceback
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any

import typer

from yarvic import __version__
from yarvic.cli_campaign import campaigns
from yarvic.cli_keys import keys
from yarvic.cli_words import AsJson, print_each, print_json, tell
from yarvic.core.errors import UnitError, YarvicError
from yarvic.core.reading import cannot

app = typer.Typer(
    help="The calibrator's bench.", no_args_is_help=False, add_completion=False, pretty_exceptions_enable=False
)
app.add_typer(keys, name="keys")
app.add_typer(campaigns, name="campaign")
MOST_PULLS_TOLD = 12
PASSES, STOPS, UNUSABLE, LACKS_DATA = 0, 1, 2, 3


@app.callback(invoke_without_command=True)
def desk(context: typer.Context, version: Annotated[bool, typer.Option("--version")] = False) -> None:
    """Open the desk with the last job, or the welcome."""
    if version:
        print(f"yarvic {__version__}")
        raise typer.Exit(PASSES)
    if context.invoked_subcommand is None:
        from yarvic.desk.app import run

        raise typer.Exit(run())


@app.command("open")
def open_(
    job: Path,
    read_only: Annotated[bool, typer.Option("--read-only", help="Open without the right to write.")] = False,
) -> None:
    """Open the desk with a job."""
    from yarvic.core.job.file import check_head
    from yarvic.desk.app import run

    check_head(job)
    raise typer.Exit(run(job, read_only=read_only))


@app.command()
def demo(
    tour: Annotated[Path | None, typer.Option(help="Drive the window through the demo; leave pictures here.")] = None,
    jobs: Annotated[Path | None, typer.Option(help="Build the demo jobs in this folder.")] = None,
) -> None:
    """Open the desk with the demo jobs; without a display, drive the tour."""
    from yarvic.desk.app import has_display, run

    if jobs is not None:
        from yarvic.demo.jobs import build_missing

        paths = build_missing(jobs)
        print("\n".join(f"Demo job: {path}" for path in paths))
        if tour is None:
            if not has_display():
                raise typer.Exit(PASSES)
            raise typer.Exit(run(paths[0]))
    if tour is None and has_display():
        raise typer.Exit(run(build_demo=True))
    if not has_display():
        os.environ["QT_QPA_PLATFORM"] = "offscreen"
    from yarvic.desk.tour import run_tour

    folder = tour or Path.cwd() / "tour"
    raise typer.Exit(PASSES if run_tour(folder, print) else STOPS)


@app.command()
def check(
    logs: list[Path],
    job: Annotated[Path | None, typer.Option(help="Use component limits and the kind of engine of this job.")] = None,
    limits: Annotated[Path | None, typer.Option(help="Use limits of this TOML file.")] = None,
    mapping: Annotated[Path | None, typer.Option(help="What the columns mean, as confirmed: a TOML file.")] = None,
    fuel: Annotated[str, typer.Option(help="Fuel of an air-fuel ratio, such as petrol-95.")] = "",
    barometer: Annotated[str, typer.Option(help="Makes gauge pressures absolute, such as 970mbar.")] = "",
    cylinders: Annotated[int | None, typer.Option(min=1, max=16, help="How many the engine has.")] = None,
    same_drive: Annotated[
        bool, typer.Option("--same-drive", help="They drove what the job's baseline drove: dyno or road, load, gear.")
    ] = False,
    as_json: AsJson = False,
) -> None:
    """Check the pulls in logs of any format that is read: text, gzip, zip, Parquet, XLSX, MDF 4."""
    from yarvic.core.caged import CAGE

    CAGE.start()  # while the rest is loaded
    from yarvic.core.checks.evidence_of_pull import EngineKind
    from yarvic.core.checks.finding import NO_DATA, STOP
    from yarvic.core.checks.limits import default_limits, read_limits
    from yarvic.core.checks.of_file import Judging, check_file, not_judged
    from yarvic.core.evidence.mapping import Facts
    from yarvic.core.formats.mapping_file import read_mapping
    from yarvic.core.physics.fuel import fuel as fuel_by_key
    from yarvic.core.typed_numbers import parse_measure
    from yarvic.state.shop import channel_words

    judged, engine, baselines = _of_job(job) if job is not None else (default_limits(), EngineKind(), ())
    if cylinders is not None:
        engine = replace(engine, cylinders=cylinders)
    by = Judging(
        read_limits(limits, judged) if limits is not None else judged,
        engine,
        read_mapping(mapping) if mapping is not None else None,
        Facts(
            parse_measure(barometer, "pressure") if barometer else None,
            fuel_by_key(fuel).stoichiometric_afr if fuel else None,
        ),
        channel_words(),
        baselines,
        fuel,
        same_drive,
    )
    document: list[dict[str, Any]] = []
    unusable = False
    for path in logs:
        try:
            document += check_file(path, by)
        except YarvicError as error:
            if len(logs) == 1:
                raise
            unusable = True
            print(f"yarvic: {error}", file=sys.stderr)
            document.append(not_judged(path, error))
    print_each(document, _tell_check, as_json)
    worst = [entry["verdict"] for entry in document]
    verdict = STOPS if STOP in worst else LACKS_DATA if NO_DATA in worst else PASSES
    raise typer.Exit(UNUSABLE if unusable else verdict)


def _tell_check(entry: dict[str, Any]) -> None:
    from yarvic.core.checks.finding import VERDICT_WORDS

    if "error" in entry:
        tell(f"{entry['log']}: {entry['error']}")
        return
    pulls = "1 pull" if entry["pulls"] == 1 else f"{entry['pulls']} pulls"
    part = f", {entry['part']}" if entry["part"] else ""
    tell(f"{entry['log']}{part}: {pulls}, {VERDICT_WORDS[entry['verdict']]}")
    for n, p in enumerate(entry["pull_list"][:MOST_PULLS_TOLD], 1):
        against = f": {', '.join(p['reasons'])}" if p["reasons"] else ""
        tell(f"  pull {n}   {p['kind']}, ends {p['ends']}{against}")
    for sentence in (*entry["problems"], *entry["notes"]):
        tell(f"  log      {sentence}")
    for c in entry["columns"]:
        if c["question"]:
            tell(f"  asked    {c['name']}: {c['question']}")
    unknown = [c["name"] for c in entry["columns"] if c["how"] == "not_understood"]
    if unknown:
        tell(f"  not understood: {', '.join(unknown)}")
    for c in entry["checks"]:
        tell(f"  {VERDICT_WORDS[c['severity']]:8} {c['sentence']}: {c['numbers']}")
    for family in entry["not_asked"]:
        tell(f"  not asked of this log: {family.lower()}")
    for c in entry["causes"]:
        tell(f"  points at: {c['title'].lower()} ({c['share'] * 100.0:.0f} %), by {', '.join(c['explains'])}")
    if entry["unexplained"]:
        tell(f"  not explained: {', '.join(entry['unexplained'])}")
    if entry["next_look"]:
        tell(f"  next: {entry['next_look']}")


def _of_job(path: Path) -> tuple[Any, Any, tuple[Any, ...]]:
    """The limits of a job, with those that it changed, the kind of its engine, and its baselines."""
    from yarvic.core.job.model import parts_on
    from yarvic.core.job.store import Job
    from yarvic.state.baselines import baselines_of

    job = Job.open(path, read_only=True)
    try:
        return job.sheet.limits_with(parts_on(job.builds())), job.sheet.vehicle.asked, baselines_of(job)
    finally:
        job.close()


@app.command()
def dyno(
    files: list[Path],
    standard: Annotated[
        str,
        typer.Option(help="none, std, sae-j1349, din-70020, iso-1585 or jis-d1001; as measured where none is named."),
    ] = "",
    basis: Annotated[str, typer.Option(help="wheel or crank, where the sheet does not say.")] = "",
    corrected: Annotated[str, typer.Option(help="The standard its numbers have already; none as measured.")] = "",
    ratio: Annotated[str, typer.Option(help="Engine speed for road speed, such as '42.5 rpm per km/h'.")] = "",
    per_roller: Annotated[str, typer.Option(help="Engine turns per turn of the roller, such as 3.2.")] = "",
    temperature: Annotated[str, typer.Option(help="Of the air, such as 25C.")] = "",
    pressure: Annotated[str, typer.Option(help="Of the station, such as 954mbar.")] = "",
    humidity: Annotated[str, typer.Option(help="Relative, such as 40%.")] = "",
    altitude: Annotated[str, typer.Option(help="Of the dyno, such as 430m.")] = "",
    mapping: Annotated[Path | None, typer.Option(help="What the columns mean, as confirmed: a TOML file.")] = None,
    as_json: AsJson = False,
) -> None:
    """Read dyno sheets: curves of power and torque over a speed, as CSV, XLSX, Parquet or packed."""
    from yarvic.core.caged import CAGE

    CAGE.start()  # while the rest is loaded
    from yarvic.core.checks.of_sheet import Told, check_standard, read_sheet
    from yarvic.core.formats.mapping_file import read_mapping
    from yarvic.core.typed_numbers import parse_gearing, parse_measure, parse_turns
    from yarvic.state.shop import channel_words
    from yarvic.state.weather import Weather

    check_standard(standard)
    check_standard(corrected)
    if basis not in ("", "wheel", "crank"):
        raise UnitError(f"basis {basis!r} is unknown", remedy="Say wheel or crank.")
    weather = {
        "temperature_k": parse_measure(temperature, "temperature") if temperature else None,
        "pressure_pa": parse_measure(pressure, "pressure") if pressure else None,
        "relative_humidity": parse_measure(humidity, "ratio") if humidity else None,
    }
    curve = {
        "basis": basis,
        "corrected_by": corrected,
        "rpm_per_m_s": parse_gearing(ratio) if ratio else None,
        "engine_per_roller": parse_turns(per_roller) if per_roller else None,
    }
    told = Told(
        standard,
        {k: v for k, v in curve.items() if v},
        {k: v for k, v in weather.items() if v is not None},
        Weather(altitude_m=parse_measure(altitude, "length")).altitude_m if altitude else None,
        read_mapping(mapping) if mapping is not None else None,
        words=channel_words(),
    )
    document = [each for path in files for each in read_sheet(path, told)]
    print_each(document, _tell_sheet, as_json)
    faulty, open_ = (any(entry[key] for entry in document) for key in ("faults", "questions"))
    raise typer.Exit(STOPS if faulty else LACKS_DATA if open_ else PASSES)


def _tell_sheet(entry: dict[str, Any]) -> None:
    from yarvic.core.physics.correction import title

    run, curve = f", {entry['run']}" if entry["run"] else "", entry["curve"]
    tell(f"{entry['file']}{run}")
    if curve is not None:
        by = title(entry["standard"]) if entry["standard"] else "as it stands"
        by += f", factor {curve['factor']:.3f}" if curve["factor"] is not None else ""
        at = f"at the {entry['basis']}" if entry["basis"] else "wheel or crank unknown"
        power = f"{curve['peak_power_w'] / 1e3:.1f} kW at {curve['peak_power_rpm']:,.0f} rpm"
        torque = f"{curve['peak_torque_nm']:.1f} N m at {curve['peak_torque_rpm']:,.0f} rpm"
        tell(f"  {at}, {by}: {power}, {torque}")
    for word, key in (("fault", "faults"), ("asked", "questions"), ("note", "notes")):
        for sentence in entry[key]:
            tell(f"  {word:8} {sentence}")
    for warning in curve["warnings"] if curve is not None else ():
        tell(f"  note     {warning}")
    for c in entry["columns"]:
        if c["question"]:
            tell(f"  asked    {c['name']}: {c['question']}")
    left = [f"{c['name']} ({c['reason']})" for c in entry["columns"] if c["how"] == "not_understood"]
    if left:
        tell(f"  not used: {', '.join(left)}")


@app.command()
def layout(
    file: Annotated[Path, typer.Argument(help="A layout (TOML) or a description file (ASAP2).")],
    image: Annotated[Path | None, typer.Argument(help="Intel HEX, S-record or raw bytes.")] = None,
    base: Annotated[str, typer.Option(help="Address of the first of raw bytes, such as 0x80000.")] = "",
    as_json: AsJson = False,
    values: Annotated[bool, typer.Option("--values", help="Print what the image holds too: every number.")] = False,
) -> None:
    """Say what a layout or a description file holds, what is wrong with it, and what with an image under it."""
    from yarvic.cli_layout import tell_layout, tell_values
    from yarvic.core.formats.contents import contents
    from yarvic.core.formats.descriptions import document, read_description, under
    from yarvic.core.formats.images import read_image
    from yarvic.core.typed_numbers import parse_address

    if values and image is None:
        raise YarvicError("--values needs an image", concerns=str(file), remedy="Name the image behind the layout.")
    found, faults = read_description(file)
    held: dict[str, dict[str, dict[str, Any]]] = {}
    unknown: tuple[str, ...] = ()
    if image is not None:
        taken = under(found, faults, read_image(image), parse_address(base) if base else None)
        found, faults, unknown = taken.layout, list(taken.faults), taken.unknown
        held = contents(found, taken.data) if values else held
    told = document(found, tuple(faults), unknown)
    if as_json:
        print_json({**told, "values": held} if values else told)
    else:
        tell_layout(told)
        tell_values(told, held)
    raise typer.Exit(STOPS if faults else LACKS_DATA if found.left_out or unknown else PASSES)


@app.command()
def diff(
    one: Annotated[Path, typer.Argument(help="A job; or an image: Intel HEX, S-record or raw bytes.")],
    other: Annotated[str, typer.Argument(help="A revision of the job, by its name; or another image.")],
    third: Annotated[str, typer.Argument(help="The revision that is compared with it.")] = "",
    as_json: AsJson = False,
    checksums: Annotated[
        bool, typer.Option("--checksums", help="Of two images, look for what a checksum covers too.")
    ] = False,
) -> None:
    """Say what differs between two revisions of a job, table by table, or between two images, byte by byte."""
    from yarvic.cli_diff import diff_images, diff_revisions

    if third and checksums:
        raise YarvicError("--checksums is of two images", concerns=str(one), remedy="Compare revisions without it.")
    if third:
        same = diff_revisions(one, other, third, as_json)
    else:
        same = diff_images(one, Path(other), as_json, checksums)
    raise typer.Exit(PASSES if same else STOPS)


@app.command()
def correct(
    standard: Annotated[str, typer.Option(help="none, std, sae-j1349, din-70020, iso-1585 or jis-d1001.")],
    temperature: Annotated[str, typer.Option(help="With its unit, such as 25C.")],
    pressure: Annotated[str, typer.Option(help="Station pressure with its unit, such as 990mbar.")],
    humidity: Annotated[str, typer.Option(help="Relative, such as 40%.")],
    as_json: AsJson = False,
) -> None:
    """Compute a dyno correction factor."""
    from yarvic.core.physics.air import Air, dry_pressure
    from yarvic.core.physics.correction import correction
    from yarvic.core.typed_numbers import parse_measure

    air = Air(
        parse_measure(pressure, "pressure"),
        parse_measure(temperature, "temperature"),
        parse_measure(humidity, "ratio"),
    )
    c = correction(standard, air)
    if as_json:
        print_json(
            {
                "standard": c.standard,
                "title": c.title,
                "factor": c.factor,
                "pressure_pa": air.pressure_pa,
                "dry_pressure_pa": dry_pressure(air),
                "temperature_k": air.temperature_k,
                "relative_humidity": air.relative_humidity,
                "warnings": list(c.warnings),
            }
        )
    else:
        print(f"{c.title}: factor {c.factor:.4f} (dry air {dry_pressure(air) / 100:.1f} mbar)")
        for warning in c.warnings:
            print(f"  {warning}")


@app.command()
def verify(
    path: Annotated[Path, typer.Argument(metavar="PACKAGE|JOB")],
    require_signature: Annotated[
        bool, typer.Option("--require-signature", help="Exit 1 for what carries no signature that fits.")
    ] = False,
    package: Annotated[
        list[Path] | None, typer.Option(help="A package of this job: what its history was when it was signed.")
    ] = None,
    witness: Annotated[
        list[Path] | None, typer.Option(help="A witness file that its signatures were noted in.")
    ] = None,
    as_json: AsJson = False,
) -> None:
    """Say whether a release package, or a job, is what was signed: whole, by whose key, and whether that is known."""
    from yarvic.state.verifying import report_of

    report = report_of(path, packages=package or (), witness_files=witness or ())
    if as_json:
        print_json(report.document)
    else:
        for line in report.about:
            tell(line)
        for fault in report.faults:
            tell(f"fault: {fault}")
        tell(report.verdict)
        for name, signer in report.signers:
            tell(f"Release {name}: {signer.sentence}" if name else signer.sentence)
        for line in report.since:
            tell(line)
    raise typer.Exit(PASSES if report.intact and (report.signed or not require_signature) else STOPS)


def main() -> None:
    """Run the command line; an error is one message on stderr and exit 2, and what nobody foresaw is one too."""
    for stream in (sys.stdout, sys.stderr):
        # A terminal that knows few letters shows the others by their number, and stops nothing.
        if isinstance(stream, io.TextIOWrapper):
            stream.reconfigure(errors="backslashreplace")
    try:
        try:
            app(standalone_mode=True)
        finally:
            sys.stdout.flush()
    except YarvicError as error:
        print(f"yarvic: {error}", file=sys.stderr)
        sys.exit(UNUSABLE)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)  # who reads has seen enough
        sys.exit(PASSES)
    except OSError as error:
        # What reads and writes files says so itself: this is what was told not arriving where it was sent.
        os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        print(f"yarvic: {cannot(error, 'written', 'standard output')}", file=sys.stderr)
        sys.exit(UNUSABLE)
    except Exception as error:  # noqa: BLE001 - a traceback's exit code would read as "falls short"
        print(f"yarvic: {_unforeseen(error)}", file=sys.stderr)
        sys.exit(UNUSABLE)


def _unforeseen(error: Exception) -> YarvicError:
    """An error that nobody foresaw, as one of ours; where it came from is kept for who is to mend it."""
    from yarvic.state.settings import record_defect

    place = record_defect("".join(traceback.format_exception(error)))
    remedy = f"Please report this, with {place}." if place else "Please report this."
    return YarvicError(f"something went wrong inside Yarvic ({type(error).__name__})", remedy=remedy)
