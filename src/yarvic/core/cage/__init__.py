"""Where foreign files are read: a process for each, which may read what it was given and answer, and nothing else."""
