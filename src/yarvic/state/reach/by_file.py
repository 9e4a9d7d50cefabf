"""By file: the image is carried to whatever writes the unit, and what was read back comes as a file (`state/by_file`)."""

from yarvic.state.reach.door import Way

WAY = Way("by file", "By file", 2, None)
