"""Checks: a matrix, check by pull; the trace of the one in hand, what the findings point at, and the page for the owner."""

from yarvic.desk.views.checks.view import make

__all__ = ["make"]
