"""The job file: one vehicle in for calibration. Committed means on disk."""
