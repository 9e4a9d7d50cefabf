"""Maps: the table in the middle, its slices above, the edits as words with keys."""

from yarvic.desk.views.maps.view import make

__all__ = ["make"]
