"""One view a step."""
