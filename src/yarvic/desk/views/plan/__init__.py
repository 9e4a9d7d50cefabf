"""Plan: the target, the limits, the stages and what they cost."""

from yarvic.desk.views.plan.view import PlanView, make

__all__ = ["PlanView", "make"]
