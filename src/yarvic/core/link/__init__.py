"""Talking to a control unit: what it must be able to do, and the order in which it is flashed."""
