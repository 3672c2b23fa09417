"""The commands: each calls one job, and prints what comes of it."""
