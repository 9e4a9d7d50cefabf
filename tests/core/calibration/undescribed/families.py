"""How well tables of unlike kinds are found: the table of docs/table-finder.md, drawn by

python -m tests.core.calibration.undescribed.families [images of each kind] [first seed]
"""

import sys
from concurrent.futures import ProcessPoolExecutor

from yarvic.bench.random_images import Score, random_image, score
from yarvic.bench.table_families import FAMILIES, HELD_OUT
from yarvic.core.calibration.undescribed.discover import discover


def measured(case):
    """Score of one image, of its tables behind axes of their own, of those with shared ones, and the right byte order."""
    family, seed = case
    image = random_image(seed, family=family)
    found = discover(image.data)
    own, shared = ([t for t in image.tables if t.shared is is_shared] for is_shared in (False, True))
    scores = [score(tables, found.tables) for tables in (image.tables, own, shared)]
    return family, scores, found.byte_order == image.byte_order


def lines(many, first):
    """The rows of the page."""
    cases = [(family, first + n) for family in FAMILIES for n in range(many)]
    with ProcessPoolExecutor() as pool:
        results = list(pool.map(measured, cases))
    yield "| kind | seen before | tables | recall | behind own axes | shared axes | precision |"
    yield "|---|---|---|---|---|---|---|"
    none = Score(0, 0, 0)
    for title, families in (*((f, [f]) for f in FAMILIES), ("all", list(FAMILIES))):
        mine = [scores for family, scores, _ in results if family in families]
        total, own, shared = (sum((s[k] for s in mine), none) for k in range(3))
        seen = "" if len(families) > 1 else "no" if title in HELD_OUT else "yes"
        yield (
            f"| {title} | {seen} | {total.hidden:,} | {total.recall:.2f} | {own.recall:.2f} | {shared.recall:.2f} |"
            f" {total.precision:.2f} |"
        )
    yield ""
    yield f"Byte order: right in {sum(right for *_, right in results)} of {len(results)}."


if __name__ == "__main__":
    numbers = [int(a) for a in sys.argv[1:]]
    for line in lines(*(numbers + [20, 5000][len(numbers) :])):
        print(line)
