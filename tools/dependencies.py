"""`python tools/dependencies.py`: write docs/dependencies.md and docs/sbom.cdx.json from what is installed and pinned.

The list of what Yarvic is made of besides its own code: versions, licences, hashes (CycloneDX 1.5).
"""

import json
import re
import sys
from importlib.metadata import PackageNotFoundError, metadata
from pathlib import Path

ROOT = Path(__file__).parents[1]
PINS = {"Yarvic": ROOT / "constraints.txt", "its tests and checks": ROOT / "constraints-dev.txt"}
# Licences under which a part may be used by a program under GPL-3.0-or-later (gnu.org, "Various Licenses and Comments about
# Them", from memory), by what a package says of itself.
COMPATIBLE = re.compile(
    r"\b(MIT|MIT-CMU|BSD|0BSD|Apache|ISC|PSF|Python Software Foundation|MPL|Mozilla|LGPL|Lesser General Public|"
    r"GPL-?3|GPL v3|GPLv3|GNU GPL|GNU General Public License v3|HPND|Zlib|Unlicense|Public Domain|CC0|Boost|OFL|ZPL)",
    re.IGNORECASE,
)
# What a package does not say of itself in words that can be told, by its own licence file.
SAID = {"psychrolib": "MIT", "types-openpyxl": "Apache-2.0"}


def pins(path: Path) -> dict[str, tuple[str, list[str]]]:
    """The pinned packages of a file: version and hashes by name."""
    found: dict[str, tuple[str, list[str]]] = {}
    name = ""
    for line in path.read_text("utf-8").splitlines():
        pin = re.match(r"([A-Za-z0-9._-]+)==([^\s\\]+)", line)
        if pin is not None:
            name = pin[1]
            found[name] = (pin[2], [])
        elif "--hash=sha256:" in line:
            found[name][1].append(line.split("sha256:")[1].split()[0])
    return found


def licence_of(name: str) -> str:
    """What a package says its licence is, on one line; empty where it says nothing, or is not installed."""
    if name.lower() in SAID:
        return SAID[name.lower()]
    try:
        told = metadata(name)
    except PackageNotFoundError:
        return ""
    classes = [c.split("::")[-1].strip() for c in told.get_all("Classifier") or () if c.startswith("License")]
    classes = [c for c in classes if c != "OSI Approved"]
    words = told.get("License-Expression") or ", ".join(classes) or (told.get("License") or "").split("\n")[0]
    return words.strip()[:80]


def main() -> int:
    """Write both files; 1 where a licence is none of those."""
    lines = [
        "# Dependencies", "",
        "What Yarvic is made of besides its own code, as pinned in `constraints.txt` and `constraints-dev.txt` with the",
        "hashes of its files. Written by `tools/dependencies.py`, with `sbom.cdx.json` beside it (CycloneDX 1.5). Each"
        " licence",
        "may be combined with GPL-3.0-or-later; the suite checks that.", "",
    ]  # fmt: skip
    components, wrong = [], []
    for title, path in PINS.items():
        lines += [f"## For {title}", "", "| package | version | licence |", "|---|---|---|"]
        for name, (version, hashes) in pins(path).items():
            licence = licence_of(name)
            if not COMPATIBLE.search(licence):
                wrong.append(f"{name}: {licence!r}")
            lines.append(f"| {name} | {version} | {licence} |")
            component = {
                "type": "library", "name": name, "version": version, "purl": f"pkg:pypi/{name.lower()}@{version}",
                "scope": "required" if title == "Yarvic" else "excluded", "licenses": [{"license": {"name": licence}}],
                "hashes": [{"alg": "SHA-256", "content": h} for h in hashes],
            }  # fmt: skip
            components.append(component)
        lines.append("")
    document = {
        "bomFormat": "CycloneDX", "specVersion": "1.5", "version": 1,
        "metadata": {"component": {"type": "application", "name": "yarvic", "licenses": [
            {"license": {"id": "GPL-3.0-or-later"}}
        ]}},
        "components": components,
    }  # fmt: skip
    (ROOT / "docs/dependencies.md").write_text("\n".join(lines), "utf-8")
    (ROOT / "docs/sbom.cdx.json").write_text(json.dumps(document, indent=1) + "\n", "utf-8")
    for each in wrong:
        print(f"no licence that may be combined: {each}", file=sys.stderr)
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
