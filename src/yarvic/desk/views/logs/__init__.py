"""Logs: stacked traces on one axis, the pull shaded, limits in the trace they limit, values at the cursor."""

from yarvic.desk.views.logs.view import make

__all__ = ["make"]
