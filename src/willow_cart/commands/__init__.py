"""The commands: a module each, with its request, what it does, and its result."""
