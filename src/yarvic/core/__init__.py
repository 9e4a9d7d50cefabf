"""Computation without interface: no Qt, no threads, no printing."""
