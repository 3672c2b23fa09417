"""Linux and macOS."""
