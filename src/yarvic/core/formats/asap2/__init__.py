"""Description files of the ASAM MCD-2 MC standard (ASAP2), 1.6 and 1.7, as layouts."""
