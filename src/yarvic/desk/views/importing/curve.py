"""What the numbers of a dyno's curve are: where measured, by what corrected, in which pull of a log."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtWidgets import QFrame, QVBoxLayout

from yarvic.core.evidence.sheet.joining import Candidate
from yarvic.core.physics.correction import STANDARDS, title
from yarvic.core.typed_numbers import parse_gearing, parse_number, parse_turns
from yarvic.core.units import unit
from yarvic.desk.widgets.entry import Line, choice
from yarvic.desk.widgets.words import Elided, label, row, show_choice
from yarvic.state.arrival import Answers

BASES = (("wheel", "the wheels"), ("crank", "the crank"))
ALONE = ""
MOST_OFFERED = 12


class CurveForm(QFrame):
    """Of a sheet only. `say` is given fields of the curve, `state` fields of the conditions, `join` run and pull."""

    def __init__(
        self,
        say: Callable[..., None],
        state: Callable[..., None],
        join: Callable[[str, int], None],
        name_of: Callable[[str], str],
    ) -> None:
        super().__init__()
        self.setObjectName("sheet")
        self._join, self._name_of = join, name_of
        self._candidates: list[Candidate] = []
        self.question = label("", "fault", wrap=True)
        self.basis = choice("Measured at", lambda: list(BASES), lambda b: say(basis=b))
        self.corrected = choice(
            "Already corrected by",
            lambda: [(n, "nothing: as measured" if n == "none" else title(n)) for n in STANDARDS],
            lambda n: say(corrected_by=n),
        )
        self.factor = Line(
            "Factor that is in its numbers",
            lambda text: state(stated_factor=parse_number(text) if text.strip() else None),
            90,
            "factor, if stated",
        )
        self.ratio = Line(
            "Engine speed for road speed",
            lambda text: say(rpm_per_m_s=parse_gearing(text) if text.strip() else None),
            170,
            "such as 42.5 rpm per km/h",
        )
        self.turns = Line(
            "Engine turns per roller turn",
            lambda text: say(engine_per_roller=parse_turns(text) if text.strip() else None),
            170,
            "such as 3.2",
        )
        self.joined = choice("Measured in", self._pulls, self._choose)
        self.joined_said = Elided("caption")
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 6, 12, 6)
        column.setSpacing(2)
        column.addWidget(self.question)
        self.ratio_name = label("Speed", "quiet")
        column.addLayout(
            row(
                label("Measured at", "quiet"), self.basis, label("already corrected by", "quiet"), self.corrected,
                self.factor, None, spacing=6,
            )
        )  # fmt: skip
        column.addLayout(row(self.ratio_name, self.ratio, self.turns, None, spacing=6))
        last = row(label("In the pull", "quiet"), self.joined, self.joined_said, spacing=6)
        last.setStretch(2, 1)
        column.addLayout(last)
        column.addWidget(self.factor.fault)
        column.addWidget(self.ratio.fault)
        column.addWidget(self.turns.fault)

    def show_answers(self, said: Answers, asked: list[str], candidates: list[Candidate], over: str) -> None:
        """Show what is said of a curve, what is asked of it, and the pulls that it may be of; `over` what speed it stands:
        engine, road or roller.
        """
        assert said.curve is not None
        self._candidates = candidates
        self.question.setText("  ".join(f"{q[:1].upper()}{q[1:]}." if not q.endswith(".") else q for q in asked))
        self.question.setVisible(bool(asked))
        show_choice(self.basis, dict(BASES).get(said.curve.basis, "the wheels or the crank?"))
        by = said.curve.corrected_by
        show_choice(self.corrected, "nothing" if by == "none" else title(by) if by else "by which standard?")
        self.factor.setVisible(by not in ("", "none"))
        factor = said.conditions.stated_factor
        self.factor.show_text("" if factor is None else f"{factor:.3f}")
        self.ratio_name.setVisible(over != "engine")
        self.ratio_name.setText("Engine speed for road speed" if over == "road" else "Engine turns per roller turn")
        self.ratio.setVisible(over == "road")
        self.turns.setVisible(over == "roller")
        turns = said.curve.engine_per_roller
        self.turns.show_text("" if turns is None else f"{turns:.6g}")
        geared = said.curve.rpm_per_m_s
        self.ratio.show_text("" if geared is None else f"{geared * unit('km/h').factor:.2f} rpm per km/h")
        show_choice(self.joined, self._title(*said.joined) if said.joined is not None else "of no log")
        fits = [c for c in candidates if c.fits]
        near = next((c for c in candidates if said.joined == (c.run, c.pull)), None)
        if near is not None:
            how = "all along" if near.by_shape else "at its ends"
            self.joined_said.setText(f"engine speed is {near.apart * 100:.1f} % of the sweep apart {how}")
        elif fits:
            self.joined_said.setText(
                f"{len(fits)} pull{'s' if len(fits) > 1 else ''} of the job's logs may be the one"
            )
        else:
            self.joined_said.setText("no pull of the job's logs has its speeds" if candidates else "")

    def _title(self, run: str, pull: int) -> str:
        return f"{self._name_of(run)}, pull {pull + 1}"

    def _pulls(self) -> list[tuple[str, str]]:
        offered = [
            (f"{c.run} {c.pull}", f"{self._title(c.run, c.pull)}: {c.apart * 100:.1f} % apart")
            for c in self._candidates[:MOST_OFFERED]
        ]
        return [(ALONE, "of no log"), *offered]

    def _choose(self, key: str) -> None:
        run, _, pull = key.partition(" ")
        self._join(run, int(pull or 0))
