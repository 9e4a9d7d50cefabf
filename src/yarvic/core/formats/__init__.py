"""One file per format around the types of calibration and evidence. Every file is treated as hostile."""
