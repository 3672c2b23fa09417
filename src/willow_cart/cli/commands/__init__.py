"""The commands: each calls one job and prints its result."""
