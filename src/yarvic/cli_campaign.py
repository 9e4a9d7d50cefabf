"""`yarvic campaign`: what is to hold whatever goes wrong, tried as often as wished."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Annotated, TypeVar

import typer

from yarvic.cli_words import AsJson, print_json, tell

campaigns = typer.Typer(help="Trials of what is to hold whatever goes wrong.", no_args_is_help=True)
T = TypeVar("T")
WHOLE_PAGE = 100  # runs from which on a page is made with all that it proves
PART, FEW = 50, 6  # cases that a process takes at a time
HOLDS, FALLS_SHORT = 0, 1


def _in_parts(campaign: Callable[[range], T], seeds: range, part: int) -> Iterator[T]:
    """What a campaign gives of each part of the seeds, on all processors; how far it is, where somebody looks on."""
    parts = [seeds[n : n + part] for n in range(0, len(seeds), part)]
    shown, done = sys.stderr.isatty(), 0
    with ProcessPoolExecutor(len(os.sched_getaffinity(0))) as pool:
        for given, found in zip(parts, pool.map(campaign, parts), strict=True):
            done += len(given)
            if shown:
                print(f"\r{done:,} of {len(seeds):,}", end="", file=sys.stderr, flush=True)
            yield found
    if shown:
        print(file=sys.stderr)


@campaigns.command()
def flash(
    seeds: Annotated[int, typer.Option(min=1, max=1_000_000, help="How many writes to try.")] = 1000,
    first: Annotated[int, typer.Option(min=0, help="The first seed.")] = 0,
    as_json: AsJson = False,
) -> None:
    """Write simulated units while links, supplies, disks and testers fail; bring each to its end."""
    from yarvic.bench.flash_campaign import Tally, campaign

    total = Tally()
    for found in _in_parts(campaign, range(first, first + seeds), PART):
        total.join(found)
    if as_json:
        print_json(
            {
                "cases": total.cases,
                "recovered": total.recovered,
                "right_next_step": total.right_next_step,
                "images_lost": total.images_lost,
                "falsely_done": total.falsely_done,
                "kinds": dict(sorted(total.kinds.items())),
                "wrong": total.wrong,
            }
        )
    else:
        tell(
            f"{total.cases:,} writes, {total.recovered:,} units recovered, {total.right_next_step:,} right next steps"
        )
        tell(f"{total.images_lost:,} images lost, {total.falsely_done:,} called done that were not")
        for kind, count in sorted(total.kinds.items()):
            tell(f"  {kind}: {count:,}")
        for line in total.wrong:
            tell(f"  wrong: {line}")
    raise typer.Exit(HOLDS if total.holds else FALLS_SHORT)


@campaigns.command()
def checks(
    seeds: Annotated[
        int, typer.Option(min=2, max=100_000, help="How many runs to try; every second one is sound.")
    ] = 400,
    first: Annotated[int, typer.Option(min=0, help="The first seed.")] = 0,
    report: Annotated[Path | None, typer.Option(help="Write a page of it here, in Markdown.")] = None,
    as_json: AsJson = False,
) -> None:
    """Pull simulated engines with a known fault, and as many sound ones: what is found, and which cause is named."""
    from yarvic.core.formats.files import write_whole
    from yarvic.demo.checks_campaign import Tally, campaign
    from yarvic.demo.checks_proof import DRAWS, count_of_pairs, coverage, lines, pairs, sensors, weather_coverage
    from yarvic.demo.checks_report import document, goals_met, page

    total = Tally()
    for found in _in_parts(campaign, range(first, first + seeds), FEW):
        total.outcomes += found.outcomes
    if report is not None:
        # Of a few seeds a page is a draft, and has a few pairs.
        whole = seeds >= WHOLE_PAGE
        both = [
            p for found in _in_parts(pairs, range(count_of_pairs() if whole else min(seeds, 2)), FEW) for p in found
        ]
        draws = DRAWS if whole else seeds
        more = lines(both, sensors() if whole else [], coverage(draws=draws), weather_coverage(draws=draws), draws)
        write_whole(report, page(total, more).encode("utf-8"))
    if as_json:
        print_json(document(total))
    else:
        tell(page(total))
    raise typer.Exit(HOLDS if goals_met(total) else FALLS_SHORT)
