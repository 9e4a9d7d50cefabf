"""Job: the vehicle, how well it is, and what was fitted when."""

from yarvic.desk.views.job.view import JobView, make

__all__ = ["JobView", "make"]
