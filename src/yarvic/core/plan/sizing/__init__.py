"""Sizing sheets: a formula with its source, inputs from the job, an answer that can be put into the plan."""

from yarvic.core.plan.sizing.sheet import Context, Input, Output, Sizing
from yarvic.core.plan.sizing.sheets import SHEETS

__all__ = ["SHEETS", "Context", "Input", "Output", "Sizing"]
