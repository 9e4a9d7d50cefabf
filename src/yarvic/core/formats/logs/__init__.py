"""Logs of any logger: text of any dialect, packed, columnar, or in the ASAM format. Each reader gives raw columns."""
