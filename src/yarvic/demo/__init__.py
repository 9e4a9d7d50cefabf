"""Builds the demo jobs from the bench."""
