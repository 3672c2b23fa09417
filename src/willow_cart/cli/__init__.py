"""The command line: the only rooms, with `demo`, that print, parse arguments or know a terminal."""
