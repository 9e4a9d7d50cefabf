"""Release: the gate, waivers, the customer's sheet, signature and export."""

from yarvic.desk.views.release.view import make

__all__ = ["make"]
