"""Dyno sheets in dialects that nobody tuned to, with known truth: right, asked, refused or wrong.

`python tests/core/formats/sheets.py 1000` prints the table of `docs/reading-dyno-sheets.md`.
"""

import random
import sys
import tempfile
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from yarvic.core.errors import YarvicError
from yarvic.core.evidence.sheet.curve import sheet_curve, sheet_fault, sheet_questions
from yarvic.core.formats.logs.import_log import read_file

POWER = {"kW": 1e3, "PS": 735.49875, "hp": 745.69987158227, "CV": 735.49875, "bhp": 745.69987158227}
TORQUE = {"Nm": 1.0, "N·m": 1.0, "lb-ft": 1.3558179483314, "ft-lb": 1.3558179483314, "mkg": 9.80665}
# Names of speed, power and torque, words for wheel and crank, for as measured and for corrected by SAE: by language.
LANGUAGES = {
    "en": ("Engine speed", "{} power", "{} torque", "Wheel", "Crank", "uncorrected", "SAE"),
    "short": ("RPM", "{} Power", "{} Torque", "Wheel", "Flywheel", "observed", "SAE J1349"),
    "de": ("Drehzahl", "{}leistung", "{}moment", "Rad", "Motor", "unkorrigiert", "korr. SAE"),
    "fr": ("Régime moteur", "Puissance {}", "Couple {}", "aux roues", "vilebrequin", "mesurée", "corrigée SAE"),
    "it": ("Giri motore", "Potenza {}", "Coppia {}", "alla ruota", "all'albero", "misurata", "SAE corr"),
    "sv": ("Varvtal", "Effekt {}", "Vridmoment {}", "hjul", "vevaxel", "okorrigerad", "SAE"),
}
WEATHER = {
    "en": ("Temperature", "Station pressure", "Humidity"),
    "short": ("Air temp", "Absolute barometer", "RH"),
    "de": ("Lufttemperatur", "Luftdruck absolut", "Luftfeuchte"),
    "fr": ("Température", "Pression absolue", "Humidité"),
    "it": ("Temperatura aria", "Pressione assoluta", "Umidità"),
    "sv": ("Temperature", "Absolut lufttryck", "Luftfuktighet"),
}
# SAE J1349 at 960 mbar, 24 degC and 40 % (11.9 mbar of vapour, so 948.1 mbar dry), worked by hand from its formula.
SAE_FACTOR = 1.18 * (990.0 / 948.07) * (297.0 / 298.0) ** 0.5 - 0.18


@dataclass
class Truth:
    """What was written: as measured, whatever the sheet shows."""

    speed_rpm: np.ndarray
    power_w: np.ndarray
    basis: str
    runs: int
    tells: set[str] = field(default_factory=set)  # of basis, corrected, weather: what the sheet says


def curve(rng):
    """A curve of some engine, as measured."""
    top = rng.choice([4200.0, 5600.0, 6800.0, 9000.0])
    n = np.arange(top * 0.35, top + 1.0, rng.choice([25.0, 50.0, 100.0, 250.0]))
    torque = rng.uniform(60, 600) * (1.0 - 0.45 * ((n - 0.6 * top) / top) ** 2)
    return n, torque, torque * n * 2.0 * np.pi / 60.0


def write(folder: Path, seed: int):
    """One sheet in a dialect drawn by a seed; its path and the truth."""
    rng = random.Random(seed)
    language = rng.choice(sorted(LANGUAGES))
    speed, power, torque, wheel, crank, plain, sae = LANGUAGES[language]
    n, t, p = curve(rng)
    basis, corrected = rng.choice(["wheel", "crank", ""]), rng.choice(["none", "sae", ""])
    truth = Truth(n, p, basis or "wheel", rng.choice([1, 1, 2, 3]))
    factor = SAE_FACTOR if corrected == "sae" else 1.0
    word = {"wheel": wheel, "crank": crank, "": ""}[basis]
    mark = {"none": f" {plain}", "sae": f" {sae}", "": ""}[corrected]
    truth.tells |= ({"basis"} if basis else set()) | ({"corrected"} if corrected else set())
    pu, tu = rng.choice(sorted(POWER)), rng.choice(sorted(TORQUE))
    with_torque, units = rng.random() < 0.8, rng.choice(["bracket", "round", "below", "behind"])
    names = [speed, _named(power, word) + mark] + ([_named(torque, word) + mark] if with_torque else [])
    labels = ["rpm", pu] + ([tu] if with_torque else [])
    runs = [np.column_stack([n, p * factor / POWER[pu] * (1 + k * 0.004), t * factor / TORQUE[tu] * (1 + k * 0.004)])
            [:, : len(names)] for k in range(truth.runs)]  # fmt: skip
    layout = rng.choice(["beside", "below", "named"]) if truth.runs > 1 else "one"
    head = []
    if corrected == "sae" or rng.random() < 0.5:
        truth.tells.add("weather")
        head = [list(x) for x in zip(WEATHER[language], ("24 °C", "960 mbar", "40 %"), strict=True)]
    comma = rng.random() < 0.4
    sep = rng.choice([";", "\t"] if comma else [",", ";", "\t"])
    lines = [f"{name}: {value}" for name, value in head] + ([""] if head else [])
    if layout == "beside":
        titles = [f"Run {k + 1} {name}" for k in range(truth.runs) for name in names]
        rows, labels = np.hstack(runs), labels * truth.runs
    elif layout == "named":
        titles, labels = ["Run", *names], ["", *labels]
        rows = np.vstack([np.column_stack([np.full(len(r), k + 1), r]) for k, r in enumerate(runs)])
    else:
        titles, rows = names, np.vstack(runs)
    if units in ("bracket", "round"):
        a, b = "[]" if units == "bracket" else "()"
        titles = [f"{x} {a}{u}{b}" if u else x for x, u in zip(titles, labels, strict=True)]
    elif units == "behind":
        titles = [f"{x} {u}" if u else x for x, u in zip(titles, labels, strict=True)]
    lines.append(sep.join(titles))
    if units == "below":
        lines.append(sep.join(labels))
    digits = rng.choice([1, 2])
    for row in rows:
        line = sep.join(f"{v:.0f}" if abs(v - round(v)) < 1e-9 and v > 900 else f"{v:.{digits}f}" for v in row)
        lines.append(line.replace(".", ",") if comma else line)
    path = folder / f"sheet{seed}.csv"
    path.write_bytes("\n".join(lines).encode(rng.choice(["utf-8", "utf-8-sig", "latin-1"]), errors="replace"))
    return path, truth


def _named(pattern, word):
    name = pattern.format(word).replace("  ", " ").strip()
    return name[0].upper() + name[1:] if name else name


def judged(path, truth):
    """Right, asked, refused or wrong, with why."""
    try:
        found = [r for r in read_file(path) if r.raw.sheet]
    except YarvicError as error:
        return "refused", str(error)
    if len(found) != truth.runs:
        return "wrong", f"{len(found)} runs of {truth.runs}"
    for k, run in enumerate(found):
        said, log = run.understood.curve, run.log(run.understood)
        columns, conditions = run.understood.columns, run.said.conditions
        if said.basis and "basis" in truth.tells and said.basis != truth.basis:
            return "wrong", f"{said.basis}, not {truth.basis}"
        if (said.basis and "basis" not in truth.tells) or (said.corrected_by and "corrected" not in truth.tells):
            return "wrong", "says what the sheet does not"
        fault = sheet_fault(log, said, columns, conditions)
        if fault:
            return "wrong", fault
        asked = sheet_questions(log, said)
        if asked:
            return "asked", asked[0]
        made = sheet_curve(log, said, columns, conditions)
        if made.correction.standard != "none":
            made = made.corrected(conditions, "none", boost_controlled=False)
        off = np.interp(made.speed_rpm, truth.speed_rpm, truth.power_w) * (1 + k * 0.004) / made.power_w - 1.0
        if np.abs(off).max() > 0.01:
            return "wrong", f"off by {np.abs(off).max():.3f}"
    return "right", ""


if __name__ == "__main__":
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 1000
    results: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as folder:
        for seed in range(count):
            path, truth = write(Path(folder), seed)
            how, why = judged(path, truth)
            all_told = {"basis", "corrected"} <= truth.tells
            results[how, all_told] += 1
            if how in ("wrong", "refused") or (how == "asked" and all_told):
                print(seed, how, why, path.read_bytes()[:300], file=sys.stderr)
            path.unlink()
    print("| the sheet says basis and correction | right | asked | refused | wrong |\n|---|---|---|---|---|")
    for told in (True, False):
        cells = " | ".join(f"{results[how, told]:,}" for how in ("right", "asked", "refused", "wrong"))
        print(f"| {'yes' if told else 'no'} | {cells} |")
