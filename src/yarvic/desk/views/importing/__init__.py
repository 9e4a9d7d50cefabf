"""The page of what arrives from outside: its columns are looked at and answered, then it becomes evidence."""

from yarvic.desk.views.importing.view import ImportView, make

__all__ = ["ImportView", "make"]
