"""Messages and progress of running jobs, for terminals, notebooks and scripts."""
