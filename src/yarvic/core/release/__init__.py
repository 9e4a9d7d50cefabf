"""Closing a revision: the gate, the package, the customer's sheet."""
