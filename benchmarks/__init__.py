"""Ratios of speed against named references measured in the same run: `python -m benchmarks`."""
