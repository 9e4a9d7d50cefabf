"""Flash: the link to the unit, or the way by file where there is none; its memory block by block, and the journal."""

from yarvic.desk.views.flash.view import FlashView, make

__all__ = ["FlashView", "make"]
