"""Curves as a dyno's own program writes them: which columns they have, on what basis, corrected by what."""
