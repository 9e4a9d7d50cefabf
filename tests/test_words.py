"""Every text of the product against the glossary: one word per thing, and none of those that it rules out."""

import ast
import re
from pathlib import Path

import pytest

import yarvic
from yarvic.core.checks.finding import VERDICT_WORDS

SOURCE = Path(yarvic.__file__).parent
GLOSSARY = Path(__file__).parents[1] / "docs/glossary.md"


def rows():
    for line in GLOSSARY.read_text("utf-8").splitlines()[7:]:
        term, meaning, ruled_out = (c.strip() for c in line.strip("|").split("|"))
        yield term, meaning, [w.strip() for w in ruled_out.split(",")]


def texts(path):
    """Line and text of every string of a module that a person may read: no docstring, no single lower-case word."""
    tree = ast.parse(path.read_text("utf-8"))
    silent = set()
    for node in ast.walk(tree):
        body = getattr(node, "body", None)
        if isinstance(body, list) and body and isinstance(body[0], ast.Expr):
            silent.add(id(body[0].value))
        if isinstance(node, ast.JoinedStr):
            parts = [v.value if isinstance(v, ast.Constant) else "{}" for v in node.values]
            silent |= {id(v) for v in node.values}
            yield node.lineno, "".join(str(p) for p in parts)
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in silent:
            yield node.lineno, node.value


def spoken():
    found = []
    for path in sorted(SOURCE.rglob("*.py")):
        found += [(f"{path.relative_to(SOURCE)}:{line}", t) for line, t in texts(path) if _is_read(t)]
    for path in sorted([*SOURCE.rglob("*.toml"), *SOURCE.rglob("*.json")]):
        if path.name == "channels.toml":
            continue  # the words of other programs, which are read and never said
        lines = path.read_text("utf-8").splitlines()
        said = [line.partition("  #")[0].removeprefix("#") for line in lines if not line.startswith("#")]
        found += [(f"{path.relative_to(SOURCE)}:{n}", t) for n, t in enumerate(said, 1) if _is_read(t)]
    return found


def _is_read(text):
    return " " in text.strip() or (text[:1].isupper() and text[1:].islower())


def test_the_glossary_is_one_word_per_thing():
    terms = [w.strip() for term, _, _ in rows() for w in term.split(",")]
    ruled_out = [w for _, _, words in rows() for w in words]
    assert len(terms) > 40 and len(set(terms)) == len(terms)
    assert set(terms).isdisjoint(ruled_out)
    assert set(VERDICT_WORDS.values()) <= set(terms)


def test_no_text_uses_a_word_that_is_ruled_out():
    words = sorted({w for _, _, ruled_out in rows() for w in ruled_out})
    pattern = re.compile(r"(?<![\w])(" + "|".join(re.escape(w) for w in words) + r")(?![\w])", re.IGNORECASE)
    all_texts = spoken()
    assert len(all_texts) > 2000
    wrong = [f"{place}: {m.group(1)!r} in {text!r}" for place, text in all_texts if (m := pattern.search(text))]
    assert wrong == []


@pytest.mark.parametrize("text", ["faults on: tired pump", "pressure is not known", "the end must lie over it"])
def test_what_is_ruled_out_would_be_found(text):
    words = {w for _, _, ruled_out in rows() for w in ruled_out}
    assert any(re.search(rf"(?<!\w){re.escape(w)}(?!\w)", text) for w in words)


def test_every_error_says_what_to_do():
    """What happened is not enough for a tired person; only a cancel, and what a check could not answer, say no more."""
    kinds = {"YarvicError", "UnitError", "CalibrationError", "FormatError", "JobError", "JobInUseError", "error_type"}
    kinds |= {"JobNotWritableError", "LinkError", "NotReadyError", "ReleaseError"}
    silent = []
    for path in sorted(SOURCE.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text("utf-8"))):
            raised = isinstance(node, ast.Call) and isinstance(node.func, ast.Name) and node.func.id in kinds
            if raised and not any(k.arg == "remedy" for k in node.keywords):
                silent.append(f"{path.name}:{node.lineno}: {ast.unparse(node)[:80]}")
    assert silent == []
