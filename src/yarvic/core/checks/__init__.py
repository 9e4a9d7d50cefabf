"""Rules that turn evidence into findings. One family a file; limits are data with sources."""
