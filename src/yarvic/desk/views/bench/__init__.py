"""The bench's own page, reached from Flash, Dyno and Logs."""

from yarvic.desk.views.bench.view import BenchView, make

__all__ = ["BenchView", "make"]
