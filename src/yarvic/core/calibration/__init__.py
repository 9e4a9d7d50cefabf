"""What is tuned: tables, scalars, the layout that places them in an image, edits and their differences."""
