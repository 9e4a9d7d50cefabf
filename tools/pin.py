"""`python tools/pin.py`: write the hashes of the files of each pinned package into the files of constraints, from the index.

Run by hand after a version was changed, never while Yarvic is installed or used. A file whose hash is none of these is not
installed. Kept are those for Linux on the processors and the Pythons that are tried, and the sources.
"""

import json
import re
import urllib.request
from pathlib import Path

INDEX = "https://pypi.org/simple/{}/"
FORM = "application/vnd.pypi.simple.v1+json"
ROOT = Path(__file__).parents[1]
PINS = ("constraints.txt", "constraints-dev.txt")
# Wheels by their tags (PEP 425): pure ones, and those for Linux.
WHEEL = re.compile(
    r"-(py3|py2\.py3|cp311|cp312|cp313|cp3\d*-abi3|cp3\d+\.cp3[\w.]*)-"
    r".*(any|(many|musl)linux[\w.]*_(x86_64|aarch64)[\w.]*|linux_(x86_64|aarch64))\.whl$"
)


def plain(name: str) -> str:
    """A name as the index has it (PEP 503)."""
    return re.sub(r"[-_.]+", "-", name).lower()


def files_of(name: str, version: str) -> list[str]:
    """The hashes of the files of a version, in order."""
    request = urllib.request.Request(INDEX.format(plain(name)), headers={"Accept": FORM})
    with urllib.request.urlopen(request, timeout=60) as answer:
        listed = json.load(answer)["files"]
    starts = re.compile(rf"{re.escape(plain(name))}-{re.escape(version)}(\.tar\.gz|\.zip|-)")
    found = set()
    for file in listed:
        told = file["filename"]
        package, _, rest = told.partition("-")
        if not starts.match(f"{plain(package)}-{rest}") and not starts.match(
            plain(told).replace("-tar-gz", ".tar.gz")
        ):
            continue
        if told.endswith((".tar.gz", ".zip")) or WHEEL.search(told):
            found.add(file["hashes"]["sha256"])
    return sorted(found)


def pinned(text: str) -> str:
    """A file of pins with the hashes of each. Raises SystemExit for a version without a file that fits."""
    lines = []
    for line in text.splitlines():
        pin = re.match(r"([A-Za-z0-9._-]+)==([^\s\\]+)", line)
        if pin is None:
            if not line.lstrip().startswith("--hash"):
                lines.append(line)
            continue
        hashes = files_of(*pin.groups())
        if not hashes:
            raise SystemExit(f"{pin.group()}: no file that fits")
        lines.append(" \\\n".join([pin.group(), *(f"    --hash=sha256:{h}" for h in hashes)]))
    return "\n".join(lines) + "\n"


if __name__ == "__main__":
    for name in PINS:
        (ROOT / name).write_text(pinned((ROOT / name).read_text("utf-8")), "utf-8")
