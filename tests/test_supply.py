"""What Yarvic is made of: parts are pinned by hashes and have a licence that fits; the sources hold all that is needed."""

import importlib.util
import json
import re
import subprocess
import sys
import tarfile
import tomllib
from importlib.metadata import version
from pathlib import Path

import pytest

ROOT = Path(__file__).parents[1]


def tool(name):
    spec = importlib.util.spec_from_file_location(name, ROOT / "tools" / f"{name}.py")
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


dependencies = tool("dependencies")
PINNED = {file: dependencies.pins(path) for file, path in dependencies.PINS.items()}
PROJECT = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]


def plain(name):
    return re.sub(r"[-_.]+", "-", name).lower()


def named(requirement):
    return plain(re.match(r"[A-Za-z0-9._-]+", requirement)[0])


def test_every_dependency_is_pinned_by_its_hashes():
    run = {plain(n) for n in PINNED["Yarvic"]}
    tests = run | {plain(n) for n in PINNED["its tests and checks"]}
    assert {named(r) for r in PROJECT["dependencies"]} <= run
    assert {named(r) for group in PROJECT["optional-dependencies"].values() for r in group} <= tests
    for pins in PINNED.values():
        for name, (_, hashes) in pins.items():
            assert hashes and all(re.fullmatch(r"[0-9a-f]{64}", h) for h in hashes), name


@pytest.mark.parametrize("name", sorted({n for pins in PINNED.values() for n in pins}))
def test_every_licence_may_be_combined_with_ours(name):
    assert dependencies.COMPATIBLE.search(dependencies.licence_of(name)), name


def test_what_is_installed_here_is_what_is_pinned():
    for pins in PINNED.values():
        for name, (pinned, _) in pins.items():
            if name != "setuptools":  # of the environment, before it is ours
                assert version(name) == pinned, name


def test_the_list_of_parts_is_of_these_pins():
    text = (ROOT / "docs/dependencies.md").read_text()
    parts = {
        (c["name"], c["version"]): c for c in json.loads((ROOT / "docs/sbom.cdx.json").read_text())["components"]
    }
    pinned = {(n, v): h for pins in PINNED.values() for n, (v, h) in pins.items()}
    assert parts.keys() == pinned.keys(), "run tools/dependencies.py"
    for (name, number), hashes in pinned.items():
        assert f"| {name} | {number} |" in text
        assert [h["content"] for h in parts[name, number]["hashes"]] == hashes


def test_a_licence_that_does_not_fit_is_seen():
    for words in ("Proprietary", "GPL-2.0-only", "", "SSPL-1.0", "Commercial", "AGPL"):
        assert not dependencies.COMPATIBLE.search(words), words


@pytest.mark.skipif(not (ROOT / ".git").exists(), reason="no checkout")
def test_the_sources_hold_tests_docs_and_pins(tmp_path):
    if int(version("setuptools").partition(".")[0]) < 69:
        pytest.skip("the setuptools of this environment is older than ours")
    code = f"from setuptools import build_meta; build_meta.build_sdist({str(tmp_path)!r})"
    subprocess.run([sys.executable, "-c", code], check=True, capture_output=True, cwd=ROOT)
    (built,) = tmp_path.glob("*.tar.gz")
    with tarfile.open(built) as archive:
        names = {n.partition("/")[2] for n in archive.getnames()}
    kept = subprocess.run(
        ["git", "ls-files"], cwd=ROOT, check=True, capture_output=True, text=True
    ).stdout.splitlines()
    wanted = {n for n in kept if n.startswith(("src/", "tests/", "docs/", "tools/", "benchmarks/", "constraints"))}
    assert wanted - names == set()
