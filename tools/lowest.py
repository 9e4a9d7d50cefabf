"""`python tools/lowest.py`: the least versions that pyproject.toml allows, one a line, as pip takes them."""

import re
import tomllib
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
# What these are parts of comes in the same version.
TOGETHER = {"PyQt6": ("PyQt6-Qt6",)}


def lowest() -> list[str]:
    """Each requirement of the program and of its tests with `==` in place of `>=`."""
    project = tomllib.loads((ROOT / "pyproject.toml").read_text("utf-8"))["project"]
    wanted = [*project["dependencies"], *project["optional-dependencies"]["mdf"], *project["optional-dependencies"]["test"]]
    found = {}
    for line in wanted:
        name, least = re.fullmatch(r"([A-Za-z0-9._-]+)>=([0-9.]+)", line).groups()
        for each in (name, *TOGETHER.get(name, ())):
            found[each] = f"{each}=={least}.*"
    return list(found.values())


if __name__ == "__main__":
    print("\n".join(lowest()))
