"""The page for the owner: what is wrong is said first, and what nobody could judge never counts as safe."""

import io

import pytest
from pypdf import PdfReader

from yarvic.core.checks.causes import Causes, Ranked
from yarvic.core.checks.finding import NO_DATA, PASS, STOP, WATCH, Finding, Where
from yarvic.core.checks.for_owner import owners_page
from yarvic.core.checks.run import Summary
from yarvic.core.release.owner import owners_pdf

NONE = Causes((), "")


def summary(family, severity):
    found = Finding("x", severity, f"{family} is so", None, 1.0, Where("R", 0.0, 1.0), "a note.", family=family)
    return Summary("x", found, 1, 3)


def page(*summaries, unjudged=(), found=NONE):
    return owners_page("Ptarmigan", "A1", summaries, unjudged, found, simulated=True)


@pytest.mark.parametrize(
    ("summaries", "unjudged", "headline"),
    [
        ([summary("Boost", PASS)], (), "Safe as logged."),
        ([summary("Boost", WATCH)], (), "Safe with an eye on the turbocharger and its pipes."),
        (
            [summary("Knock", STOP), summary("Boost", WATCH)],
            (),
            "Do not drive it hard until this is put right: knock",
        ),
        ([summary("Boost", PASS)], ("Knock",), "Do not take it for safe."),
        ([summary("Knock", NO_DATA), summary("Boost", PASS)], (), "Do not take it for safe."),
        ([summary("Knock", STOP), summary("Boost", NO_DATA)], (), "Do not drive it hard"),
        ([], (), "nobody can say"),
    ],
)
def test_the_headline_is_as_safe_as_the_evidence(summaries, unjudged, headline):
    assert headline in page(*summaries, unjudged=unjudged).headline


def test_the_parts_say_what_is_wrong_what_is_likely_and_what_nobody_could_judge():
    cause = Ranked("boost_leak", "The charge pipes leak", "Pressurise the intake.", 0.9, ("late boost",), ())
    made = page(
        summary("Boost", STOP), summary("Knock", WATCH), summary("Mixture", PASS), unjudged=("Temperatures",),
        found=Causes((cause,), "Pressurise the intake."),
    )  # fmt: skip
    parts = dict(made.parts)
    assert parts["What is wrong"] == ("The turbocharger and its pipes: Boost is so in 1 of 3 pulls (a note).",)
    assert "charge pipes leak" in parts["Most likely"][0] and "Pressurise" in parts["Most likely"][0]
    assert parts["What nobody could judge"] == ("Temperatures: the logs do not tell.",)
    assert parts["What holds"] == ("1 of 3 checks hold in every pull.",)
    text = "".join(p.extract_text() for p in PdfReader(io.BytesIO(owners_pdf(made))).pages)
    for words in (made.headline[:30], "SIMULATED", "Most likely", "licensed workshop", "map A1"):
        assert words in text


def test_a_long_page_goes_on():
    many = page(*[summary("Boost", WATCH) for _ in range(120)])
    assert len(PdfReader(io.BytesIO(owners_pdf(many))).pages) > 1
