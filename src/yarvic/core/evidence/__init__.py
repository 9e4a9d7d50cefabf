"""What was measured: channels, logs, pulls, dyno curves, conditions and how well they repeat."""
