"""The command line: only it and `demo` print, parse arguments or know a terminal."""
