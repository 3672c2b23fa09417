"""What people are told and shown while a job runs, in a terminal, a notebook or a script."""
