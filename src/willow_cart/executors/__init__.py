"""Where transfers run besides the threads of this process: in the workers of a cluster."""
